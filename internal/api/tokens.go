package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	spec "bagaglio/api"
	"bagaglio/internal/access"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

// mostDays is after how many days a token expires at the latest that does.
const mostDays = 3650

// personKey is under what a request has who was let in.
const personKey = "person"

// personOf is who asks.
func personOf(ctx context.Context) access.Person {
	p, _ := ctx.(*gin.Context).Get(personKey)
	return p.(access.Person)
}

func (s *server) GetMe(ctx context.Context, _ GetMeRequestObject) (GetMeResponseObject, error) {
	p := personOf(ctx)
	return GetMe200JSONResponse{Name: known(p.Name), Role: spec.Role(p.Role), WorksOn: worksOn(strings.Join(p.Works, " "))}, nil
}

func viewToken(t store.Token) spec.Token {
	return spec.Token{
		Name: t.Name, Role: spec.Role(t.Role), Created: t.Created, Expires: t.Expires, Used: t.Used, WorksOn: worksOn(t.WorksOn),
	}
}

func (s *server) ListTokens(ctx context.Context, _ ListTokensRequestObject) (ListTokensResponseObject, error) {
	all, err := s.service.Records.Tokens(ctx)
	return ListTokens200JSONResponse{Items: views(all, viewToken)}, err
}

func (s *server) AddToken(ctx context.Context, r AddTokenRequestObject) (AddTokenResponseObject, error) {
	var expires *time.Time
	if days := r.Body.Days; days != nil {
		if *days < 1 || *days > mostDays {
			return nil, fmt.Errorf("%w: a token expires after 1 to %d days, or never", records.ErrInvalid, mostDays)
		}
		at := time.Now().AddDate(0, 0, *r.Body.Days)
		expires = &at
	}
	ctx.(*gin.Context).Set(subjectKey, "token "+r.Body.Name)
	t, secret, err := s.service.Access.NewToken(ctx, r.Body.Name, access.Role(r.Body.Role), or(r.Body.WorksOn, nil), expires)
	return AddToken201JSONResponse{
		Name: t.Name, Role: spec.Role(t.Role), Created: t.Created, Expires: t.Expires, Secret: secret, WorksOn: worksOn(t.WorksOn),
	}, err
}

func (s *server) RevokeToken(ctx context.Context, r RevokeTokenRequestObject) (RevokeTokenResponseObject, error) {
	return RevokeToken204Response{}, s.service.Access.Revoke(ctx, r.Token)
}
