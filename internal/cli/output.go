package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
)

// errTold is the error of a command that has said already what went wrong.
var errTold = errors.New("told already")

// told keeps the class of an error for the exit code, without it being printed again.
func told(err error) error { return errors.Join(errTold, err) }

// printJSON prints for programs.
func (a *app) printJSON(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// remark prints a line for people that is no data.
func (a *app) remark(format string, args ...any) {
	_, _ = fmt.Fprintf(a.notes, format+"\n", args...) // there is nowhere else to tell it
}

// size writes a size for a table.
func size(n int64) string {
	if n < 0 {
		return "?"
	}
	return humanize.IBytes(uint64(n))
}

// table prints rows for people; the first is the heading.
func table(out io.Writer, rows [][]string) error {
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	for _, row := range rows {
		if _, err := fmt.Fprintln(w, strings.Join(row, "\t")); err != nil {
			return err
		}
	}
	return w.Flush()
}

// when writes a time for people.
func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05 MST") }

// signs mark the severity of a check.
var signs = map[plan.Severity]string{plan.Blocks: "STOP", plan.Warns: "WARN", plan.Informs: "ok"}

// printPlan says what will happen.
func printPlan(out io.Writer, p plan.Plan) error {
	var b strings.Builder
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(&b, format+"\n", args...) } // a strings.Builder takes everything
	switch {
	case p.Request.Kind == plan.PackMachine && p.Machine != nil:
		say("%s becomes the package %s:", p.Machine.Here(), p.Request.Destination)
		for _, s := range p.Before {
			say("  %s (%s, %s), %s", s.Place, s.Format, s.Layout, plan.Bytes(s.VirtualSize))
		}
		say("")
	case p.Machine != nil && p.Machine.Removes:
		where := "goes to the holding folder"
		if p.Request.Kind == plan.Undo {
			where = "comes back from the holding folder"
		}
		say("%s %s with its disks:", p.Machine.Here(), where)
		for _, s := range slices.Concat(p.Before, p.After) {
			say("  %s", s.Place)
		}
		say("")
	case p.Request.Kind == plan.HandDisk && p.Machine != nil && p.Machine.Given != nil:
		rows := [][]string{{"", "BEFORE", "AFTER"}, {"machine", p.Machine.Here(), p.Machine.There()}}
		rows = append(rows, []string{"disk", p.Machine.Disk.Lies(), p.Machine.Given.Lies()})
		if err := table(&b, rows); err != nil {
			return err
		}
		say("")
	case p.Machine != nil:
		if err := table(&b, machineRows(p)); err != nil {
			return err
		}
		say("")
	case len(p.Before) == 0 && p.Request.Kind == plan.Undo && len(p.After) > 0:
		say("%s comes back from the holding folder.\n", p.After[0].Place)
	case len(p.Before) > 0 && (p.Request.Kind == plan.Undo || p.Request.Kind == plan.Remove) && len(p.After) == 0:
		say("%s goes to the holding folder.\n", p.Before[0].Place)
	case len(p.After) > 0:
		rows := [][]string{{"", "BEFORE", "AFTER"}}
		add := func(name string, show func(plan.Side) string) {
			rows = append(rows, []string{name, show(p.Before[0]), show(p.After[0])})
		}
		add("disk", func(s plan.Side) string { return s.Place.String() })
		add("format", func(s plan.Side) string { return s.Format + ", " + s.Layout })
		add("virtual size", func(s plan.Side) string { return plan.Bytes(s.VirtualSize) })
		add("allocated size", func(s plan.Side) string { return plan.Bytes(s.AllocatedSize) })
		add("file size", func(s plan.Side) string { return plan.Bytes(s.FileSize) })
		if p.Request.Kind == plan.Convert {
			rows[len(rows)-1][2] = "at most " + rows[len(rows)-1][2]
		}
		if err := table(&b, rows); err != nil {
			return err
		}
		say("")
	}
	for _, c := range p.Checks {
		say("%-4s  %s", signs[c.Severity], c.Message)
		for _, r := range c.Remedies {
			if way := wayTo(p.Request, r); way != "" {
				say("      - %s (%s)", r.Label, way)
			} else {
				say("      - %s", r.Label)
			}
		}
	}
	for _, x := range p.Adapt {
		say("\nInside of %s, once it is proven:", x.Place)
		for _, c := range x.Files {
			say("- %s", c.Called())
			for _, l := range c.Lines {
				say("      %s", l)
			}
		}
	}
	if len(p.Steps) > 0 {
		say("")
	}
	for i, s := range p.Steps {
		if s.Bytes > 0 {
			say("%d. %s: %s", i+1, s.Title, size(s.Bytes))
		} else {
			say("%d. %s", i+1, s.Title)
		}
	}
	if len(p.Before) > 0 {
		say("")
		if p.KnownAt != nil {
			say("What stands on it, and which machines use it, is known as of %s.", when(*p.KnownAt))
		}
		say("To read %s, to write %s, about %s.", size(p.BytesToRead), size(p.BytesToWrite), span(p.EstimatedSeconds))
	}
	_, err := io.WriteString(out, b.String())
	return err
}

// span writes a length of time in seconds for people.
func span(seconds float64) string {
	switch {
	case seconds < 1:
		return "1 s"
	case seconds < 90:
		return fmt.Sprintf("%.0f s", seconds)
	case seconds < 90*60:
		return fmt.Sprintf("%.0f min", seconds/60)
	}
	return fmt.Sprintf("%.1f h", seconds/3600)
}
