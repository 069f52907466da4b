package cli

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/client"
	"bagaglio/core/report"
	"bagaglio/core/seal"

	"github.com/spf13/cobra"
)

func (a *app) reports() *cobra.Command {
	var since, until string
	var asCSV, signed bool
	c := &cobra.Command{
		Use:   "report",
		Short: "Report what was done in a time: moved, proven how, by whom",
		Long:  `Reports what ended in a time, and is signed with the key of receipts. A time is a day, as 2026-11-01, a moment, as 2026-11-01T22:00:00Z, or days or hours back from now, as 30d or 12h.`,
		Example: `  bagaglio report --since 30d
  bagaglio report --since 2026-11-01 --until 2026-12-01 --csv > november.csv
  bagaglio report --since 30d --signed > november.jws
  bagaglio report check november.jws --key /media/seabag/receipts.jwk`,
		Args: exactly(0),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, _ []string) error {
			now := time.Now()
			from, err := moment(since, now)
			if err != nil {
				return err
			}
			to, err := moment(until, now)
			if err != nil {
				return err
			}
			r, err := service.Report(cmd.Context(), from, to)
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(r.Report)
			case signed:
				_, err = fmt.Fprintln(a.out, r.Signed)
				return err
			case asCSV:
				return writeCSV(a.out, r.Report)
			}
			return a.printReport(r.Report)
		}),
	}
	c.Flags().StringVar(&since, "since", "30d", "from when on")
	c.Flags().StringVar(&until, "until", "0h", "until when")
	c.Flags().BoolVar(&asCSV, "csv", false, "as CSV, a line for each disk")
	c.Flags().BoolVar(&signed, "signed", false, "as a JSON Web Signature, which can be checked")
	a.jsonFlag(c)
	c.MarkFlagsMutuallyExclusive("csv", "signed", "json")
	c.AddCommand(a.reportCheck())
	return c
}

// moment reads a time, or how long that is ago.
func moment(text string, now time.Time) (time.Time, error) {
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return now.AddDate(0, 0, -n), nil
		}
	}
	ago, err := time.ParseDuration(text)
	if err != nil || ago < 0 {
		return now, usage("%q is no time: write it like 2026-11-01, 2026-11-01T22:00:00Z, 30d or 12h", text)
	}
	return now.Add(-ago), nil
}

func (a *app) printReport(r report.Report) error {
	rows := [][]string{{"JOB", "ENDED", "WORK", "SOURCE", "DESTINATION", "OUTCOME", "READ", "WRITTEN", "WHO"}}
	for _, x := range r.Items {
		rows = append(rows, []string{
			strconv.FormatInt(x.Job, 10), when(x.Finished), x.Kind, x.Subject, x.To, x.Outcome, size(x.Read), size(x.Written), x.Who,
		})
	}
	if err := table(a.out, rows); err != nil {
		return err
	}
	_, err := fmt.Fprintf(a.out, "\n%d jobs from %s to %s, %s read, %s written: %s\n",
		r.Jobs, when(r.Since), when(r.Until), size(r.Read), size(r.Written), counts(r.Outcomes))
	return err
}

// counts says how many there are of each.
func counts(of map[string]int) string {
	var parts []string
	for _, what := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%d %s", of[what], what))
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}

// writeCSV writes a line for each disk, and one for a job that has none.
func writeCSV(w io.Writer, r report.Report) error {
	out := csv.NewWriter(w)
	head := []string{
		"job",
		"started",
		"ended",
		"work",
		"who",
		"source",
		"destination",
		"fingerprint",
		"outcome",
		"reason",
		"compared",
		"bytes_read",
		"bytes_written",
		"said",
	}
	if err := out.Write(head); err != nil {
		return err
	}
	for _, x := range r.Items {
		disks := x.Disks
		if len(disks) == 0 {
			disks = []report.Disk{{Source: x.Subject, Destination: x.To, Outcome: x.Outcome}}
		}
		for _, d := range disks {
			if err := out.Write([]string{
				strconv.FormatInt(x.Job, 10),
				x.Started.UTC().Format(time.RFC3339),
				x.Finished.UTC().Format(time.RFC3339),
				x.Kind,
				cell(x.Who),
				cell(d.Source),
				cell(d.Destination),
				d.Fingerprint,
				d.Outcome,
				cell(x.Reason),
				cell(x.Compared),
				strconv.FormatInt(
					x.Read,
					10,
				),
				strconv.FormatInt(x.Written, 10),
				cell(strings.Join(append(append(x.Said, x.Doubts...), x.Remarks...), " | ")),
			}); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}

// cell keeps a text from being taken for a formula by whoever opens the file as a table.
func cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

func (a *app) reportCheck() *cobra.Command {
	var keyFile string
	c := &cobra.Command{
		Use: "check FILE", Short: "Check that a signed report is as it was made, and print it", Args: exactly(1),
		Example: "  bagaglio report check november.jws --key /media/seabag/receipts.jwk",
		RunE: func(_ *cobra.Command, args []string) error {
			public, err := readKey(keyFile)
			if err != nil {
				return err
			}
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			b, err := seal.Verify(strings.TrimSpace(string(text)), public)
			if err != nil {
				return err
			}
			var r report.Report
			if err := json.Unmarshal(b, &r); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(r)
			}
			return a.printReport(r)
		},
	}
	c.Flags().StringVar(&keyFile, "key", "", "file with the public key of the service's receipts (bagaglio receipt key)")
	_ = c.MarkFlagRequired("key") // it is there
	a.jsonFlag(c)
	return c
}
