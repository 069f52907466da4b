package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"

	"bagaglio/core/plan"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
)

// maxRequest bounds a request that is read from a file, in bytes.
const maxRequest = 1 << 20

func (a *app) do() *cobra.Command {
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "do FILE|-",
		Short: "Run a request that is written in a file, in JSON or YAML",
		Long: `Runs a request as the service takes it (POST /v1/plans) and as the console shows it to be copied, from a file or, with -, from the standard
input. Its places are in pools, or at paths of this computer, which are worked on on the spot.`,
		Example: `  bagaglio do night.yaml --plan
  echo '{"kind": "prove", "source": {"pool": "quay-store", "path": "ticketing.vmdk"}, "tag": "beside"}' | bagaglio do -`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.readRequest(args[0])
			if err != nil {
				return err
			}
			places := []plan.Place{r.Source}
			if r.Destination != nil {
				places = append(places, *r.Destination)
			}
			var w worker
			if r.Kind == plan.Undo {
				w, err = a.remote()
			} else {
				w, err = a.worker(places...)
			}
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	c.Flags().BoolVar(&planOnly, "plan", false, "only say what would happen")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	a.jsonFlag(c)
	return c
}

// readRequest reads a request from a file, or from the standard input.
func (a *app) readRequest(name string) (r plan.Request, err error) {
	if err := a.readFile(name, &r); err != nil {
		return r, err
	}
	return r, r.Validate()
}

// readFile reads a value from a file in JSON or YAML, or, for "-", from the standard input.
func (a *app) readFile(name string, into any) error {
	in := a.in
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, maxRequest))
	if err != nil {
		return fmt.Errorf("reading %s: %w", name, err)
	}
	var fields map[string]any
	if err := yaml.Unmarshal(text, &fields); err != nil { // JSON is YAML too
		return usage("%s is neither JSON nor YAML: %w", name, err)
	}
	b, err := json.Marshal(fields)
	if err != nil {
		return usage("%s has keys that are no text: %w", name, err)
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return usage("%s: %w", name, err)
	}
	return nil
}
