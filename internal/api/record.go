package api

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"bagaglio/core/storage"

	"github.com/gin-gonic/gin"
)

const (
	whoKey     = "who"
	subjectKey = "subject"
	detailKey  = "detail"

	// WhoHeader is in which a client says who uses it. It is believed no further than the log.
	WhoHeader = "Bagaglio-Who"
	maxWho    = 100
)

// deeds are the calls that go into the log, in words. A call that changes something and is not here goes by its address.
var deeds = map[string]string{
	"POST /v1/console-links":                       "made a link to the console",
	"DELETE /v1/session":                           "left the console",
	"POST /v1/hosts":                               "added a host",
	"PATCH /v1/hosts/:host":                        "changed the host",
	"DELETE /v1/hosts/:host":                       "forgot the host",
	"POST /v1/hosts/:host/test":                    "tried the host out",
	"PATCH /v1/pools/:pool":                        "changed the rules of the pool",
	"POST /v1/pools/:pool/test":                    "tried the pool out",
	"POST /v1/pools/:pool/ways":                    "added a way to the pool",
	"DELETE /v1/pools/:pool/ways/:host":            "forgot a way to the pool",
	"POST /v1/pools/:pool/stop-looking":            "ended the look through the pool",
	"POST /v1/pools":                               "added a pool",
	"DELETE /v1/pools/:pool":                       "forgot the pool",
	"POST /v1/pools/:pool/held/:held/restore":      "restored what was held",
	"DELETE /v1/pools/:pool/held/:held":            "removed what was held",
	"POST /v1/hosts/:host/machines":                "made a machine known to the host",
	"DELETE /v1/hosts/:host/machines/:machine":     "had the host forget the machine",
	"POST /v1/hosts/:host/machines/:machine/start": "switched the machine on",
	"POST /v1/hosts/:host/machines/:machine/stop":  "switched the machine off",
	"POST /v1/groups":                              "started a group of jobs",
	"POST /v1/groups/:group/:act":                  "acted on a whole group",
	"POST /v1/jobs":                                "started a plan",
	"POST /v1/jobs/:job/again":                     "started the request again",
	"PATCH /v1/jobs/:job":                          "changed speed or hours",
	"POST /v1/jobs/:job/pause":                     "paused",
	"POST /v1/jobs/:job/resume":                    "let go on",
	"POST /v1/jobs/:job/move":                      "moved in the queue",
	"POST /v1/jobs/:job/cancel":                    "cancelled",
	"POST /v1/jobs/:job/free-leases":               "freed what it had left over",
	"POST /v1/jobs/:job/answer":                    "answered",
	"POST /v1/tokens":                              "made a token",
	"DELETE /v1/tokens/:token":                     "revoked the token",
	"POST /v1/session":                             "signed in",
	"PUT /v1/me/password":                          "changed their password",
	"DELETE /v1/sessions/:session":                 "ended the session",
	"POST /v1/people":                              "let somebody sign in",
	"PATCH /v1/people/:person":                     "changed what somebody may, or their password",
	"DELETE /v1/people/:person":                    "let somebody sign in no more",
	"PUT /v1/routines/:routine":                    "kept the routine",
	"DELETE /v1/routines/:routine":                 "forgot the routine",
	"POST /v1/routines/:routine/runs":              "did the routine",
	"POST /v1/channels":                            "had somebody told what happens",
	"DELETE /v1/channels/:channel":                 "had it told nothing any more",
	"POST /v1/channels/:channel/try":               "tried it out",
	"POST /v1/pools/:pool/folders":                 "made a folder",
	"POST /v1/pools/:pool/files/rename":            "gave another name",
	"DELETE /v1/pools/:pool/files":                 "removed, and held",
	"POST /v1/pools/:pool/uploads":                 "began to upload",
	"POST /v1/pools/:pool/uploads/:upload/end":     "ended an upload",
	"DELETE /v1/pools/:pool/uploads/:upload":       "dropped an upload",
	"POST /v1/consents/:consent":                   "agreed",
	"DELETE /v1/consents/:consent":                 "did not agree",
	"POST /v1/porters":                             "invited a porter",
	"PATCH /v1/porters/:porter":                    "paused the porter, or let it work again",
	"DELETE /v1/porters/:porter":                   "revoked the porter",
	"PUT /v1/limits":                               "changed a limit",
	"DELETE /v1/limits":                            "removed a limit",
}

// record notes in the log what somebody asked for that changes something, and what came of it; and who was not let in.
func (g *gate) record(c *gin.Context) {
	c.Next()
	method, path := c.Request.Method, c.FullPath()
	what := deeds[method+" "+path]
	if what == "" {
		what = method + " " + short(path)
	}
	if status := c.Writer.Status(); status == http.StatusUnauthorized || status == http.StatusForbidden ||
		status == http.StatusTooManyRequests {
		if who := c.GetString(whoKey); who != "" || method != http.MethodGet { // a browser that asks for the first time is nobody's attempt
			g.note(orNobody(who), c.ClientIP(), what, http.StatusText(status)+": "+c.GetString(detailKey))
		}
		return
	}
	if method == http.MethodGet || method == http.MethodHead || path == "" || path == piecesRoute || path == "/v1/plans" ||
		path == "/v1/group-plans" || path == "/v1/routines/:routine/plans" { // a plan changes nothing, and the end of an upload tells of its pieces
		return
	}
	who := orNobody(c.GetString(whoKey))
	if name := saidName(c); name != "" {
		who += ", " + name
	}
	result := "done"
	if c.Writer.Status() >= http.StatusBadRequest {
		result = http.StatusText(c.Writer.Status()) + ": " + c.GetString(detailKey)
	}
	g.service.Records.Note(who, c.ClientIP(), what, short(subject(c)), result[:min(len(result), 10*maxNoted)])
}

// saidName is the name that a client gives of who uses it, empty for none.
func saidName(c *gin.Context) string {
	name := storage.Printable(c.GetHeader(WhoHeader))
	return name[:min(len(name), maxWho)]
}

// whoAsks is who asks for something, as is shown with it: by the name of their token, by the one that the client gives, or by what let them in.
func whoAsks(ctx context.Context) string {
	c := ctx.(*gin.Context)
	return cmp.Or(personOf(ctx).Name, saidName(c), c.GetString(whoKey))
}

func orNobody(who string) string {
	if who == "" {
		return "nobody who is known"
	}
	return who
}

// subject is what a call is about: what its answer says, or what its address names.
func subject(c *gin.Context) string {
	if s := c.GetString(subjectKey); s != "" {
		return s
	}
	var parts []string
	for _, p := range c.Params {
		parts = append(parts, p.Key+" "+p.Value)
	}
	return strings.Join(parts, ", ")
}
