package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/receipt"
	"bagaglio/core/seal"
	"bagaglio/core/step"

	"github.com/go-jose/go-jose/v4"
	"github.com/spf13/cobra"
)

func (a *app) receipt() *cobra.Command {
	return group("receipt", "Receipts: what ended jobs prove", a.receiptCheck(), a.receiptKey())
}

func (a *app) receiptKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Print the public key that checks receipts, a JSON Web Key, to be kept in another place", Args: exactly(0),
		Example: "  bagaglio receipt key > /media/seabag/receipts.jwk\n  bagaglio receipt check --key /media/seabag/receipts.jwk",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, _ []string) error {
			answer, err := service.Seals(cmd.Context(), 0)
			if err != nil {
				return err
			}
			return a.printJSON(answer.Key)
		}),
	}
}

// checked is what a check of all receipts found.
type checked struct {
	Receipts int64  `json:"receipts"`
	Head     string `json:"head"` // digest of the last one
	Key      string `json:"key"`  // thumbprint of the key that signed them
}

func (a *app) receiptCheck() *cobra.Command {
	var keyFile, holds string
	c := &cobra.Command{
		Use: "check", Short: "Check that no receipt was changed, put in or taken out since it was written",
		Long: `Each receipt is signed by the service when its job ends, together with the digest of the one before. This reads them all, and
compares them with the receipts that the service shows. Somebody who has the service's key could write all of them anew: keep its
public key (--key) and, now and then, the head that is printed (--holds) in another place.`,
		Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			var public jose.JSONWebKey
			if keyFile != "" {
				if public, err = readKey(keyFile); err != nil {
					return err
				}
			}
			found, err := checkReceipts(cmd.Context(), service, public, holds)
			if errors.Is(err, seal.ErrBroken) {
				return fmt.Errorf("%w: %w", step.ErrNotProven, err)
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(found)
			}
			_, err = fmt.Fprintf(
				a.out,
				"%d receipts, each as it was signed, in an unbroken chain.\nHead  %s\nKey   %s\n",
				found.Receipts,
				found.Head,
				found.Key,
			)
			return err
		},
	}
	c.Flags().StringVar(&keyFile, "key", "", "file with the public key, as JSON Web Key (default: what the service says)")
	c.Flags().StringVar(&holds, "holds", "", "a head that was printed before, which has to be in the chain")
	a.jsonFlag(c)
	return c
}

// readKey reads a public key from a file, which may have the private one, as the service keeps it.
func readKey(file string) (public jose.JSONWebKey, err error) {
	b, err := os.ReadFile(file)
	if err == nil {
		err = public.UnmarshalJSON(b)
	}
	if err != nil {
		return public, fmt.Errorf("reading the key: %w", err)
	}
	return public.Public(), nil
}

// checkReceipts goes through the chain. With a zero key, the one that the service names is believed.
func checkReceipts(ctx context.Context, service *client.Service, public jose.JSONWebKey, holds string) (checked, error) {
	chain := seal.Chain{Public: public}
	held := holds == ""
	var head api.Head
	for {
		answer, err := service.Seals(ctx, chain.Length)
		if err != nil {
			return checked{}, err
		}
		if chain.Public.Key == nil {
			b, err := json.Marshal(answer.Key)
			if err == nil {
				err = chain.Public.UnmarshalJSON(b)
			}
			if err != nil {
				return checked{}, fmt.Errorf("reading the service's key: %w", err)
			}
		}
		for _, s := range answer.Seals {
			link, err := chain.Add(s.Seal)
			if err != nil {
				return checked{}, err
			}
			if err := asShown(ctx, service, link); err != nil {
				return checked{}, err
			}
			held = held || chain.Head == holds
		}
		if len(answer.Seals) == 0 {
			head = answer.Head
			break
		}
	}
	if chain.Length != head.Number || chain.Head != head.Digest {
		return checked{}, fmt.Errorf(
			"%w: the last receipt is number %d, and the chain ends with number %d: some were taken out at its end, or replaced",
			seal.ErrBroken,
			head.Number,
			chain.Length,
		)
	}
	if !held {
		return checked{}, fmt.Errorf(
			"%w: the head %s is not in the chain: receipts were taken out at its end, or all were written anew",
			seal.ErrBroken,
			holds,
		)
	}
	return checked{chain.Length, chain.Head, chain.Public.KeyID}, nil
}

// asShown compares a signed receipt with the one that the service shows for its job.
func asShown(ctx context.Context, service *client.Service, l seal.Link) error {
	shown, err := service.Receipt(ctx, strconv.FormatInt(l.Job, 10))
	if err != nil {
		return fmt.Errorf("reading the receipt of job %d: %w", l.Job, err)
	}
	var signed receipt.Receipt
	if err := json.Unmarshal(l.Receipt, &signed); err != nil {
		return fmt.Errorf("%w: the receipt of job %d cannot be read: %w", seal.ErrBroken, l.Job, err)
	}
	a, errA := json.Marshal(signed)
	b, errB := json.Marshal(shown)
	if err := errors.Join(errA, errB); err != nil {
		return err
	}
	if !bytes.Equal(a, b) {
		return fmt.Errorf("%w: the receipt of job %d is not the one that was signed", seal.ErrBroken, l.Job)
	}
	return nil
}
