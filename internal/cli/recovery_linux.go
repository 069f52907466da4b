package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"bagaglio/internal/recovery"
	"bagaglio/internal/store"

	"filippo.io/age"
	"github.com/spf13/cobra"
)

// exitTakenOver is what a service ends with whose records another one holds.
const exitTakenOver = 4

// recoveryKeys are what the flags of the service say of the recovery key.
func (a *app) recoveryKeys() (key age.Identity, to string, err error) {
	file, to := a.config.GetString("recovery-key"), a.config.GetString("recovery-to")
	if a.config.GetString("engine") == "" {
		if file != "" || to != "" {
			err = usage("a recovery key is of use with an engine alone that the records are kept in (--engine)")
		}
		return nil, "", err
	}
	if file == "" && to == "" {
		return nil, "", usage(
			"the copy of the records in the engine is encrypted: make a key (bagaglio recovery key), keep it elsewhere, and give what it is known by (--recovery-to)",
		)
	}
	if file == "" {
		return nil, to, nil
	}
	if key, err = recovery.ReadKey(file); err != nil {
		return nil, "", err
	}
	own := recovery.KnownBy(key)
	if to != "" && to != own {
		return nil, "", usage("the key in %s is known by %s, and not by what --recovery-to says", file, own)
	}
	return key, own, nil
}

func (a *app) recovery() *cobra.Command {
	return group("recovery", "Recovery: what another service takes over with when a computer is lost", a.recoveryKey(), a.recoveryCheck())
}

func (a *app) recoveryKey() *cobra.Command {
	c := &cobra.Command{
		Use:   "key",
		Short: "Make a recovery key",
		Args:  exactly(0),
		Long: `Makes a recovery key, and writes it to standard output. Keep it where neither the service nor its engine is lost with it: who has it can read the records. The service is
given only what it is known by.`,
		Example: "  bagaglio recovery key > recovery.key",
		RunE: func(*cobra.Command, []string) error {
			secret, to, err := recovery.NewKey()
			if err != nil {
				return err
			}
			a.remark("The service: bagaglio serve --engine nats://HOST:PORT --recovery-to %s", to)
			if a.json {
				return a.printJSON(map[string]string{"key": secret, "known_by": to})
			}
			_, err = fmt.Fprintf(a.out, "# recovery key of Bagaglio, known by %s\n%s\n", to, secret)
			return err
		},
	}
	a.jsonFlag(c)
	return c
}

// recovered is what a check found.
type recovered struct {
	AsOf     time.Time      `json:"as_of"`
	Holder   string         `json:"holder"`
	Term     int64          `json:"term"`
	Bytes    int64          `json:"bytes"`
	Jobs     map[string]int `json:"jobs"` // by state
	Receipts int64          `json:"receipts"`
	Lost     *int64         `json:"lost,omitempty"` // receipts that the service has, and the copy not; absent where it cannot be asked
}

func (a *app) recoveryCheck() *cobra.Command {
	var engine, credentials, file string
	c := &cobra.Command{
		Use:   "check",
		Short: "Say what would be lost if the service died now",
		Args:  exactly(0),
		Long: `Reads the copy of the records in the engine as a service would that takes over, into a folder that is removed again, checks it, and says what is in it. Where the service can
be asked, what it has and the copy has not is counted. Nothing is changed.`,
		Example: "  bagaglio recovery check --engine nats://engine.example:4222 --recovery-key recovery.key",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if engine == "" || file == "" {
				return usage("name the engine, and the file with the recovery key: --engine nats://HOST:PORT --recovery-key FILE")
			}
			found, err := a.tryRecovery(cmd.Context(), engine, credentials, file)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(found)
			}
			rows := [][]string{
				{"as of", found.AsOf.Local().Format("2006-01-02 15:04:05")},
				{"held by", fmt.Sprintf("%s, the %d. to do so", found.Holder, found.Term)},
				{"read", size(found.Bytes)},
			}
			for _, state := range []string{"waiting", "running", "paused", "asking", "done", "failed", "cancelled"} {
				if n := found.Jobs[state]; n > 0 {
					rows = append(rows, []string{"jobs " + state, fmt.Sprint(n)})
				}
			}
			lost := "not known: the service cannot be asked from here"
			if found.Lost != nil {
				lost = fmt.Sprintf("%d receipts of %d", *found.Lost, found.Receipts+*found.Lost)
			}
			return table(a.out, append(rows, []string{"receipts", fmt.Sprint(found.Receipts)}, []string{"would be lost", lost}))
		},
	}
	f := c.Flags()
	f.StringVar(&engine, "engine", "", "address of the engine: nats://HOST:PORT")
	f.StringVar(&credentials, "engine-credentials", "", "file with the credentials that are shown there")
	f.StringVar(&file, "recovery-key", "", "file with the recovery key")
	a.jsonFlag(c)
	return c
}

func (a *app) tryRecovery(ctx context.Context, engine, credentials, file string) (r recovered, err error) {
	key, err := recovery.ReadKey(file)
	if err != nil {
		return r, err
	}
	p, err := recovery.Look(ctx, engine, credentials)
	if err != nil {
		return r, err
	}
	defer p.Close()
	folder, err := os.MkdirTemp("", "bagaglio-recovery-")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(folder)
	found, err := p.Restore(ctx, key, folder)
	if err != nil {
		return r, err
	}
	s, err := store.Open(ctx, filepath.Join(folder, "records.sqlite"))
	if err != nil {
		return r, err
	}
	defer s.Close()
	r = recovered{AsOf: found.At, Holder: found.Holder.Name, Term: found.Term, Bytes: found.Bytes}
	if r.Jobs, r.Receipts, err = s.Check(ctx); err != nil {
		return r, fmt.Errorf("the copy in the engine is damaged: %w", err)
	}
	service, err := a.dial()
	if err != nil {
		return r, nil //nolint:nilerr // it cannot be asked from here
	}
	now, err := service.Seals(ctx, r.Receipts)
	if err != nil {
		return r, nil //nolint:nilerr // likewise
	}
	lost := max(0, now.Head.Number-r.Receipts)
	r.Lost = &lost
	return r, nil
}
