package api

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	spec "bagaglio/api"
	"bagaglio/internal/access"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

var (
	errNotYou   = errors.New("nobody is called so, or the password is wrong")
	errTooOften = errors.New("too often")
)

func (s *server) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	c := ctx.(*gin.Context)
	c.Set(whoKey, "somebody who signs in as "+short(r.Body.Name))
	if s.gate.refusals.tooMany(c.ClientIP()) {
		return nil, fmt.Errorf("%w: somebody tried to sign in too often from there: wait a little", errTooOften)
	}
	p, session, ok, err := s.service.Access.SignIn(ctx, r.Body.Name, r.Body.Password, c.ClientIP())
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, errNotYou
	}
	c.Set(whoKey, "session "+p.Name)
	setSession(c, session, *p.Expires)
	return SignIn200JSONResponse{Name: &p.Name, Role: spec.Role(p.Role)}, nil
}

func (s *server) EndSession(ctx context.Context, _ EndSessionRequestObject) (EndSessionResponseObject, error) {
	p := personOf(ctx)
	if p.Session == "" {
		return nil, fmt.Errorf("%w: there is no session to end", records.ErrInvalid)
	}
	setSession(ctx.(*gin.Context), "", time.Time{})
	return EndSession204Response{}, s.service.Access.EndSession(ctx, p, p.Session)
}

func (s *server) ChangePassword(ctx context.Context, r ChangePasswordRequestObject) (ChangePasswordResponseObject, error) {
	if s.gate.refusals.tooMany(ctx.(*gin.Context).ClientIP()) {
		return nil, fmt.Errorf("%w: somebody tried passwords too often from there: wait a little", errTooOften)
	}
	ok, err := s.service.Access.ChangePassword(ctx, personOf(ctx), r.Body.Old, r.Body.New)
	if err == nil && !ok {
		err = fmt.Errorf("%w: the old password is wrong", records.ErrInvalid)
	}
	return ChangePassword204Response{}, err
}

func (s *server) ListSessions(ctx context.Context, _ ListSessionsRequestObject) (ListSessionsResponseObject, error) {
	p := personOf(ctx)
	all, err := s.service.Access.Sessions(ctx, p)
	return ListSessions200JSONResponse{Items: views(all, func(x store.Session) spec.Session {
		this := x.ID == p.Session
		return spec.Session{Id: x.ID, Who: known(x.Who), Role: spec.Role(x.Role), Begun: x.Begun, Expires: x.Expires, From: x.Origin, This: &this}
	})}, err
}

func (s *server) EndSessionOf(ctx context.Context, r EndSessionOfRequestObject) (EndSessionOfResponseObject, error) {
	return EndSessionOf204Response{}, s.service.Access.EndSession(ctx, personOf(ctx), r.Session)
}

// worksOn shows where somebody works, absent for everywhere.
func worksOn(kept string) *[]string {
	if all := strings.Fields(kept); len(all) > 0 {
		return &all
	}
	return nil
}

func viewPerson(k store.Known) spec.KnownPerson {
	out := spec.KnownPerson{Name: k.Name, Role: spec.Role(k.Role), WorksOn: worksOn(k.WorksOn)}
	out.Created, _ = time.Parse(time.RFC3339Nano, k.Created) // as it was written
	if used, err := time.Parse(time.RFC3339Nano, k.Used); err == nil {
		out.Used = &used
	}
	return out
}

func (s *server) ListPeople(ctx context.Context, _ ListPeopleRequestObject) (ListPeopleResponseObject, error) {
	all, err := s.service.Records.People(ctx)
	return ListPeople200JSONResponse{Items: views(all, viewPerson)}, err
}

func (s *server) AddPerson(ctx context.Context, r AddPersonRequestObject) (AddPersonResponseObject, error) {
	ctx.(*gin.Context).Set(subjectKey, "person "+r.Body.Name)
	k, err := s.service.Access.AddPerson(ctx, r.Body.Name, access.Role(r.Body.Role), or(r.Body.WorksOn, nil), r.Body.Password)
	return AddPerson201JSONResponse(viewPerson(k)), err
}

func (s *server) ChangePerson(ctx context.Context, r ChangePersonRequestObject) (ChangePersonResponseObject, error) {
	b := r.Body
	k, err := s.service.Access.ChangePerson(ctx, r.Person, access.Role(or(b.Role, "")), (*access.Works)(b.WorksOn), or(b.Password, ""))
	return ChangePerson200JSONResponse(viewPerson(k)), err
}

func (s *server) RemovePerson(ctx context.Context, r RemovePersonRequestObject) (RemovePersonResponseObject, error) {
	return RemovePerson204Response{}, s.service.Access.RemovePerson(ctx, r.Person)
}
