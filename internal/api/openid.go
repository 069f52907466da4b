package api

import (
	"errors"
	"net/http"
	"time"

	"bagaglio/internal/access"

	"github.com/gin-gonic/gin"
)

const (
	openidRoute  = "/openid"
	openidBack   = openidRoute + "/back"
	openidCookie = "bagaglio_openid"
)

// openid sends people to the provider who signs them in, and takes them back. Nothing of it is there without a provider.
type openid struct {
	*gate
	provider *access.Provider
}

// back is where the provider sends people to.
func back(c *gin.Context) string {
	scheme := "http://"
	if c.Request.TLS != nil {
		scheme = "https://"
	}
	return scheme + c.Request.Host + openidBack
}

// keep has a browser keep which sign-in it began; nothing, where that is empty.
func keep(c *gin.Context, state string, d time.Duration) {
	c.SetSameSite(http.SameSiteLaxMode) // it comes back by a link of another site
	c.SetCookie(openidCookie, state, int(d.Seconds()), openidRoute, "", c.Request.TLS != nil, true)
}

func (o *openid) begin(c *gin.Context) {
	if o.refusals.tooMany(c.ClientIP()) {
		o.refuse(c, http.StatusTooManyRequests, "somebody tried to sign in too often from there: wait a little")
		return
	}
	to, state, err := o.provider.Begin(c, back(c))
	if err != nil {
		o.failed(c, err)
		return
	}
	keep(c, state, time.Hour)
	c.Redirect(http.StatusSeeOther, to)
}

func (o *openid) end(c *gin.Context) {
	state, err := c.Cookie(openidCookie)
	keep(c, "", -time.Second)
	if err != nil || state == "" || state != c.Query("state") { // somebody else's sign-in is not taken over
		o.failed(c, access.ErrNotBegun)
		return
	}
	p, session, err := o.provider.Back(c, state, c.Query("code"), back(c), c.ClientIP())
	c.Set(whoKey, "somebody who signs in as "+short(p.Name))
	if err != nil {
		o.failed(c, err)
		return
	}
	c.Set(whoKey, "session "+p.Name)
	setSession(c, session, *p.Expires)
	o.service.Records.Note("session "+p.Name, c.ClientIP(), "signed in through the provider", "", "done, as "+string(p.Role))
	c.Redirect(http.StatusSeeOther, "/")
}

// failed notes why somebody was not signed in, and has the console tell it.
func (o *openid) failed(c *gin.Context, err error) {
	who := orNobody(c.GetString(whoKey))
	o.note(who, c.ClientIP(), "signed in through the provider", err.Error())
	for _, known := range []struct {
		err error
		why string
	}{{access.ErrNotBegun, "again"}, {access.ErrNoRole, "role"}, {access.ErrNameTaken, "name"}} {
		if errors.Is(err, known.err) {
			c.Redirect(http.StatusSeeOther, "/?openid="+known.why)
			return
		}
	}
	c.Redirect(http.StatusSeeOther, "/?openid=provider")
}
