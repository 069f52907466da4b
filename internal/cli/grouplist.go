package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"bagaglio/api"
	"bagaglio/core/plan"

	"go.yaml.in/yaml/v3"
)

// listed is a file that says which requests are a group: what all of them have, and what each has of its own, under the names of the API.
type listed struct {
	Name      string           `json:"name"`
	AtOnce    int              `json:"at_once"`
	StopAfter int              `json:"stop_after"`
	Hours     string           `json:"hours"`
	Each      map[string]any   `json:"each"`
	Requests  []map[string]any `json:"requests"`
}

// readList reads such a file: YAML, or CSV with a line for each request, whose first line has the names.
func readList(file string) (l listed, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return l, err
	}
	if l.Name = strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)); strings.EqualFold(filepath.Ext(file), ".csv") {
		l.Requests, err = readCSV(text)
	} else {
		err = l.readYAML(text)
	}
	if err != nil {
		return l, usage("%s: %v", file, err)
	}
	return l, nil
}

func (l *listed) readYAML(text []byte) error {
	var any map[string]any
	if err := yaml.Unmarshal(text, &any); err != nil {
		return err
	}
	b, err := json.Marshal(any)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return d.Decode(l)
}

// readCSV reads lines of fields. What is empty is not said.
func readCSV(text []byte) (all []map[string]any, err error) {
	r := csv.NewReader(bytes.NewReader(text))
	names, err := r.Read()
	if err != nil {
		return nil, err
	}
	for {
		line, err := r.Read()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		one := map[string]any{}
		for i, name := range names {
			if line[i] != "" {
				put(one, strings.TrimSpace(name), line[i])
			}
		}
		all = append(all, one)
	}
}

// put sets a value by a name with dots, as destination.pool. One that reads as JSON is that, any other is text.
func put(into map[string]any, name, value string) {
	first, rest, deeper := strings.Cut(name, ".")
	if deeper {
		inner, _ := into[first].(map[string]any)
		if inner == nil {
			inner = map[string]any{}
			into[first] = inner
		}
		put(inner, rest, value)
		return
	}
	var parsed any
	if json.Unmarshal([]byte(value), &parsed) != nil {
		parsed = value
	}
	into[first] = parsed
}

// group is the request for the plan of the group.
func (l listed) group() (g api.NewGroupPlan, err error) {
	var all []plan.Request
	for i, own := range l.Requests {
		r, err := requestOf(merged(l.Each, own))
		if err != nil {
			return g, usage("request %d of %s: %v", i+1, l.Name, err)
		}
		all = append(all, r)
	}
	if len(all) == 0 {
		return g, usage("%s has no requests", l.Name)
	}
	g = api.NewGroupPlan{Name: l.Name, Requests: &all}
	if l.AtOnce > 0 {
		g.AtOnce = &l.AtOnce
	}
	if l.StopAfter > 0 {
		g.StopAfter = &l.StopAfter
	}
	if l.Hours != "" {
		g.Hours = &l.Hours
	}
	return g, nil
}

func requestOf(fields map[string]any) (r plan.Request, err error) {
	b, err := json.Marshal(fields)
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err == nil {
		err = r.Validate()
	}
	return r, err
}

// merged is what all have, with what one has of its own.
func merged(all, own map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range all {
		out[k] = v
	}
	for k, v := range own {
		a, isMap := out[k].(map[string]any)
		b, both := v.(map[string]any)
		if isMap && both {
			v = merged(a, b)
		}
		out[k] = v
	}
	return out
}

// surveyRows say of each request whether it can go, and what stands in the way or will be lost.
func surveyRows(g api.GroupPlan) [][]string {
	rows := [][]string{{"WHAT", "CAN GO", "TO READ", "TO WRITE", "ABOUT", "WHY"}}
	for _, p := range g.Parts {
		verdict, why := "yes", []string{}
		for _, s := range []plan.Severity{plan.Blocks, plan.Warns} {
			for _, c := range p.Checks {
				if c.Severity == s {
					why = append(why, c.Message)
				}
			}
		}
		if slices.ContainsFunc(p.Checks, func(c plan.Check) bool { return c.Severity == plan.Blocks }) {
			verdict = "NO"
		} else if len(why) > 0 {
			verdict = "yes, but"
		}
		rows = append(rows, []string{
			p.Request.Subject(), verdict, size(p.BytesToRead), size(p.BytesToWrite), span(p.EstimatedSeconds), strings.Join(why, " "),
		})
	}
	return rows
}

// roomRows say what goes into each pool, and for how long.
func roomRows(g api.GroupPlan) [][]string {
	rows := [][]string{{"POOL", "NEEDS", "FREE", "ABOUT"}}
	for _, r := range g.Rooms {
		free := "?"
		if r.Free >= 0 {
			free = size(r.Free)
		}
		rows = append(rows, []string{r.Pool, size(r.Needs), free, span(r.Seconds)})
	}
	return rows
}

// verdict sums a survey up.
func verdict(g api.GroupPlan) string {
	can, seconds := 0, 0.0
	for _, p := range g.Parts {
		if !slices.ContainsFunc(p.Checks, func(c plan.Check) bool { return c.Severity == plan.Blocks }) {
			can, seconds = can+1, seconds+p.EstimatedSeconds
		}
	}
	return fmt.Sprintf("%d of %d can go, which takes about %s one after the other.", can, len(g.Parts), span(seconds))
}
