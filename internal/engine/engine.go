// Package engine starts the engine that carries messages between the service and its porters, inside of the service: a NATS server with JetStream, which listens to nobody. Connections come
// to it through whoever has checked them.
package engine

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

const (
	// MaxMessage bounds a message, in bytes: a plan of a thousand disks, and the mark of a step that had long not kept one.
	MaxMessage = 8 << 20
	// mostStored bounds what waits in the engine, in bytes.
	mostStored = 1 << 30
	// readyIn is for how long the engine may take to start.
	readyIn = 10 * time.Second
	// serviceUser is who the service itself is to the engine.
	serviceUser = "service"
)

// Admit says whether somebody of that name may connect who shows a secret, and which subjects they may send to and hear of.
type Admit func(name, secret string) (*server.Permissions, bool)

// Engine is one that runs in this process.
type Engine struct {
	server *server.Server
	secret string // of the service itself
}

// Open starts one that stores what waits in a folder.
func Open(folder string, admit Admit) (*Engine, error) {
	secret := make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, err
	}
	e := &Engine{secret: hex.EncodeToString(secret)}
	var err error
	e.server, err = server.NewServer(&server.Options{
		ServerName: "bagaglio", DontListen: true, NoSigs: true, NoLog: true, MaxPayload: MaxMessage,
		JetStream: true, StoreDir: filepath.Join(folder, "engine"), JetStreamMaxMemory: 64 << 20, JetStreamMaxStore: mostStored,
		CustomClientAuthentication: gate{e, admit},
	})
	if err != nil {
		return nil, fmt.Errorf("starting the engine: %w", err)
	}
	e.server.Start()
	if !e.server.ReadyForConnections(readyIn) {
		e.Close()
		return nil, errors.New("starting the engine: it was not ready in time")
	}
	return e, nil
}

// gate lets in whoever may enter.
type gate struct {
	engine *Engine
	admit  Admit
}

// Check is called by the engine for each who connects.
func (g gate) Check(c server.ClientAuthentication) bool {
	who := c.GetOpts()
	if who.Username == serviceUser {
		return who.Password == g.engine.secret
	}
	may, ok := g.admit(who.Username, who.Password)
	if ok {
		c.RegisterUser(&server.User{Username: who.Username, Permissions: may})
	}
	return ok
}

// Connect connects the service itself.
func (e *Engine) Connect() (*nats.Conn, error) {
	return nats.Connect("", nats.InProcessServer(e.server), nats.UserInfo(serviceUser, e.secret), nats.MaxReconnects(-1))
}

// Pipe is a connection to the engine, for whoever has one to somebody else and hands on what comes over it.
func (e *Engine) Pipe() (net.Conn, error) { return e.server.InProcessConn() }

// Close ends it. What waits stays in the folder.
func (e *Engine) Close() {
	e.server.Shutdown()
	e.server.WaitForShutdown()
}
