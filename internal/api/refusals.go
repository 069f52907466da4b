package api

import (
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"bagaglio/core/storage"

	"github.com/gin-gonic/gin"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

const (
	// mostOrigins bounds of how many origins it is known how often they were refused, and noteEvery is how often one of them is noted.
	mostOrigins = 1024
	noteEvery   = time.Minute
	// triesAtOnce is how often an origin may bring a wrong token or key at once, and tryEvery how often then.
	triesAtOnce, tryEvery = 20, 3 * time.Second
	// maxNoted bounds what is noted of each thing that a request brings, in bytes.
	maxNoted = 300
)

// refusals are requests that were not let in, by where they came from.
type refusals struct {
	mu      sync.Mutex
	origins *lru.Cache[string, *refused]
}

type refused struct {
	noted time.Time
	more  int // since then
	tries *rate.Limiter
}

func newRefusals() *refusals {
	origins, err := lru.New[string, *refused](mostOrigins)
	if err != nil {
		panic(err) // only for a size that is not positive
	}
	return &refusals{origins: origins}
}

// of returns what is known of an origin. The lock is held.
func (r *refusals) of(origin string) *refused {
	x, ok := r.origins.Get(origin)
	if !ok {
		x = &refused{tries: rate.NewLimiter(rate.Every(tryEvery), triesAtOnce)}
		r.origins.Add(origin, x)
	}
	return x
}

// tells whether a refusal is to be noted, and how many were not since the last one that was: one line stands for many.
func (r *refusals) tells(origin string, now time.Time) (tell bool, more int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	x := r.of(origin)
	if now.Sub(x.noted) < noteEvery {
		x.more++
		return false, 0
	}
	more, x.more, x.noted = x.more, 0, now
	return true, more
}

// tooMany tells whether an origin has brought wrong tokens or keys too often.
func (r *refusals) tooMany(origin string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return !r.of(origin).tries.Allow()
}

// note puts a refused request into the log, or counts it.
func (g *gate) note(who, origin, what, result string) {
	tell, more := g.refusals.tells(origin, time.Now())
	if !tell {
		return
	}
	if more > 0 {
		result += fmt.Sprintf(" (and %d more that were refused from there since the last line like this)", more)
	}
	g.service.Records.Note(who, origin, what, "", result)
}

// refuse ends a request that is not let in, and its connection: nothing more of it is read.
func (g *gate) refuse(c *gin.Context, status int, detail string) {
	hangUp(c.Writer)
	problemWith(c, status, detail)
}

// hangUp has nothing more be read from a connection.
func hangUp(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	_ = http.NewResponseController(w).SetReadDeadline(time.Now()) // where that cannot be, the limits of the server hold
}

// wrong refuses what brings a wrong token or key.
func (g *gate) wrong(c *gin.Context, detail string) {
	if g.refusals.tooMany(c.ClientIP()) {
		c.Header("Retry-After", strconv.Itoa(int(tryEvery.Seconds())))
		g.refuse(c, http.StatusTooManyRequests, "too many wrong tokens or links came from there: wait a little")
		return
	}
	g.refuse(c, http.StatusUnauthorized, detail)
}

// crossSite notes and refuses what another site had a browser ask.
func (g *gate) crossSite(w http.ResponseWriter, r *http.Request) {
	g.note(
		"another site, through a browser",
		originOf(r),
		r.Method+" "+short(r.URL.Path),
		"refused: it came from "+short(r.Header.Get("Origin")),
	)
	hangUp(w)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusForbidden)
	writeProblem(w, http.StatusForbidden, "a page of another site may not ask this")
}

// short is a text that a request brings, as it is noted.
func short(s string) string {
	s = storage.Printable(s)
	return s[:min(len(s), maxNoted)]
}
