package access

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
	"unicode/utf8"

	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/alexedwards/argon2id"
)

const (
	// leastPassword and mostPassword bound how many characters a password has (NIST SP 800-63B, 5.1.1.2: any, and no rules on which).
	leastPassword, mostPassword = 12, 256
	// checkedAtOnce bounds how many passwords are checked at once: each takes the memory of cost.
	checkedAtOnce = 2
)

// cost is what a password takes to be checked (RFC 9106, section 4: the second recommended option).
var cost = &argon2id.Params{Memory: 64 << 10, Iterations: 3, Parallelism: 4, SaltLength: 16, KeyLength: 32}

// nobodys is the hash of a password that nobody has, so that an unknown name takes as long to be refused as a wrong password.
var nobodys = sync.OnceValues(func() (string, error) {
	plain, _ := secret()
	return argon2id.CreateHash(plain, cost)
})

// AddPerson lets somebody sign in by name and password.
func (a *Access) AddPerson(ctx context.Context, name string, role Role, works Works, password string) (k store.Known, err error) {
	if err := errors.Join(named(name, role), works.check()); err != nil {
		return k, err
	}
	hash, err := a.hash(ctx, password)
	if err != nil {
		return k, err
	}
	k = store.Known{Name: name, Role: string(role), Password: hash, Created: time.Now().UTC().Format(time.RFC3339Nano), WorksOn: works.text()}
	return k, a.records.AddPerson(ctx, k)
}

// ChangePerson gives somebody another role or password, each where it is not empty, has them work elsewhere unless that is nil, and ends their sessions.
func (a *Access) ChangePerson(ctx context.Context, name string, role Role, works *Works, password string) (k store.Known, err error) {
	var on *string
	if works != nil {
		if err := works.check(); err != nil {
			return k, err
		}
		text := works.text()
		on = &text
	}
	if role != "" {
		if err := named(name, role); err != nil {
			return k, err
		}
	}
	hash := ""
	if password != "" {
		if hash, err = a.hash(ctx, password); err != nil {
			return k, err
		}
	}
	err = a.shut(ctx, name, "", func(ctx context.Context, name string) error {
		return a.records.ChangePerson(ctx, name, string(role), hash, on)
	})
	if err != nil {
		return k, fmt.Errorf("somebody called %q: %w", name, err)
	}
	return a.records.Person(ctx, name)
}

// RemovePerson lets somebody sign in no more, and ends their sessions.
func (a *Access) RemovePerson(ctx context.Context, name string) error {
	return a.shut(ctx, name, "", a.records.RemovePerson)
}

// ChangePassword changes one's own password, and ends one's other sessions. ok is false where the old one is wrong.
func (a *Access) ChangePassword(ctx context.Context, p Person, old, password string) (ok bool, err error) {
	k, err := a.records.Person(ctx, p.Name)
	if errors.Is(err, store.ErrNotFound) {
		return false, fmt.Errorf("%w: you came by a token or by a link of one, which has no password", records.ErrInvalid)
	}
	if err != nil {
		return false, err
	}
	if ok, err = a.matches(ctx, old, k.Password); err != nil || !ok {
		return ok, err
	}
	hash, err := a.hash(ctx, password)
	if err != nil {
		return true, err
	}
	return true, a.shut(
		ctx,
		p.Name,
		p.Session,
		func(ctx context.Context, name string) error { return a.records.ChangePerson(ctx, name, "", hash, nil) },
	)
}

// SignIn begins a session of somebody, from an address. ok is false for a name that is unknown, and for a wrong password.
func (a *Access) SignIn(ctx context.Context, name, password, origin string) (p Person, session string, ok bool, err error) {
	k, err := a.records.Person(ctx, name)
	known := err == nil
	if errors.Is(err, store.ErrNotFound) {
		k.Password, err = nobodys()
	}
	if err != nil {
		return p, "", false, err
	}
	if ok, err = a.matches(ctx, password, k.Password); err != nil || !ok || !known {
		return p, "", false, err
	}
	session, of, err := a.begin(ctx, Person{Name: k.Name, Role: Role(k.Role), Works: worksOf(k.WorksOn)}, origin)
	if err != nil {
		return p, "", false, err
	}
	k.Used = of.Begun.UTC().Format(time.RFC3339Nano)
	if err = a.records.UsePerson(ctx, k); errors.Is(err, store.ErrNotFound) { // they were changed or removed meanwhile
		if err = a.records.RemoveSession(ctx, of.ID); errors.Is(err, store.ErrNotFound) { // that ended it already
			err = nil
		}
		return p, "", false, err
	}
	return Person{
		Name:    of.Who,
		Role:    Role(of.Role),
		Expires: &of.Expires,
		Session: of.ID,
		Works:   worksOf(of.WorksOn),
	}, session, err == nil, err
}

// hash is what is kept of a password.
func (a *Access) hash(ctx context.Context, password string) (hash string, err error) {
	if n := utf8.RuneCountInString(password); n < leastPassword || n > mostPassword {
		return "", fmt.Errorf("%w: a password has %d to %d characters, and this one %d", records.ErrInvalid, leastPassword, mostPassword, n)
	}
	err = a.checked(ctx, func() error { hash, err = argon2id.CreateHash(password, cost); return err })
	return hash, err
}

func (a *Access) matches(ctx context.Context, password, hash string) (ok bool, err error) {
	if utf8.RuneCountInString(password) > mostPassword {
		return false, nil
	}
	err = a.checked(ctx, func() error { ok, err = argon2id.ComparePasswordAndHash(password, hash); return err })
	return ok, err
}

// checked does what takes the memory of cost, when there is room for it.
func (a *Access) checked(ctx context.Context, do func() error) error {
	select {
	case a.checking <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-a.checking }()
	return do()
}
