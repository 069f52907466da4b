package api

import (
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"bagaglio/core/upload"
	"bagaglio/internal/access"
	"bagaglio/internal/service"

	"github.com/gin-gonic/gin"
)

const (
	sessionCookie = "bagaglio_session"

	// piecesRoute takes pieces of files, which are longer than other bodies and many.
	piecesRoute = "/v1/pools/:pool/uploads/:upload/pieces/:piece"

	// pieceWithin is how long a piece may take to come.
	pieceWithin = 5 * time.Minute

	anybody access.Role = "anybody" // as the description of the API has it
)

// gate lets in who has the token or a session.
type gate struct {
	service  *service.Service
	refusals *refusals
	needed   map[string]access.Role // by method and route
}

// LinkURL is the address that opens the console of a service once.
func LinkURL(service, key string) string { return service + "/enter?key=" + key }

// check ends a request that brings neither the token nor a session, but for calls that anybody may do.
func (g *gate) check(c *gin.Context) {
	if g.needed[c.Request.Method+" "+c.FullPath()] == anybody {
		return
	}
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		p, ok, err := g.service.Access.Token(c, token)
		switch {
		case err != nil:
			problem(c, err)
		case !ok:
			c.Set(whoKey, "a wrong token")
			g.wrong(
				c,
				"the token is not the one of this service, or it was revoked or has expired; the client finds it in BAGAGLIO_TOKEN or in the state folder's file \"token\"",
			)
		default:
			g.let(c, p, "token")
		}
		return
	}
	session, err := c.Cookie(sessionCookie)
	if err == nil {
		p, valid, err := g.service.Access.Session(c, session)
		if err != nil {
			problem(c, err)
			return
		}
		if valid {
			g.let(c, p, "session")
			return
		}
	}
	if err == nil {
		c.Set(whoKey, "a session that has ended")
	}
	c.Header("WWW-Authenticate", `Bearer realm="bagaglio"`)
	g.refuse(
		c,
		http.StatusUnauthorized,
		"this needs the service's token (Authorization: Bearer), or a session: sign in, or open one by the link that \"bagaglio console\" prints",
	)
}

// let lets somebody in who may do what is asked for.
func (g *gate) let(c *gin.Context, p access.Person, by string) {
	c.Set(whoKey, strings.TrimSpace(by+" "+p.Name))
	c.Set(personKey, p)
	needed, known := g.needed[c.Request.Method+" "+c.FullPath()]
	if known && p.Role.May(needed) {
		if needed != access.Viewer {
			if err := g.works(c, p); err != nil {
				problem(c, err)
			}
		}
		return
	}
	g.refuse(c, http.StatusForbidden, fmt.Sprintf("this takes the role %s, and you are %s: ask who administers this service", needed, p.Role))
}

// enter begins a session for who comes by a link.
func (g *gate) enter(c *gin.Context) {
	session, expires, ok, err := g.service.Access.Enter(c, c.Query("key"), c.ClientIP())
	switch {
	case err == nil && !ok && g.refusals.tooMany(c.ClientIP()):
		g.refuse(c, http.StatusTooManyRequests, "too many wrong tokens or links came from there: wait a little")
	case err != nil:
		problem(c, err)
	case !ok: // the console tells how to get a new one
		c.Redirect(http.StatusSeeOther, "/?link=used")
	default:
		setSession(c, session, expires)
		c.Redirect(http.StatusSeeOther, "/")
	}
}

// setSession has a browser keep a session until it expires; not at all, where that is past.
func setSession(c *gin.Context, value string, expires time.Time) {
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(sessionCookie, value, max(-1, int(time.Until(expires).Seconds())), "/", "", c.Request.TLS != nil, true)
}

// headers tell browsers to load nothing from elsewhere and to keep nothing.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set(
		"Content-Security-Policy",
		"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; "+
			"base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if c.Request.TLS != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Request.URL.Path, "/v1/") || c.Request.URL.Path == "/enter" {
		h.Set("Cache-Control", "no-store")
	}
}

func limitBody(c *gin.Context) {
	most := int64(maxBody)
	if c.FullPath() == piecesRoute {
		most = upload.PieceSize + 1 // one too long is told
		_ = http.NewResponseController(c.Writer).
			SetReadDeadline(time.Now().Add(pieceWithin))
		// where that cannot be, the limits of the server hold
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
}

// onlyLoopback refuses requests that came here under another computer's name.
func onlyLoopback(c *gin.Context) {
	host := c.Request.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	if host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		problemWith(c, http.StatusForbidden, "this service answers under loopback addresses only")
	}
}

// originOf is the address that a request came from.
func originOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}
