package api

import (
	"fmt"
	"regexp"
	"strings"

	spec "bagaglio/api"
	"bagaglio/internal/access"

	"go.yaml.in/yaml/v3"
)

// inPath is a parameter in a path of the description.
var inPath = regexp.MustCompile(`\{(\w+)\}`)

// neededRoles are the roles that calls take, by method and route, as the description of the API has them.
func neededRoles() map[string]access.Role {
	var described struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	if err := yaml.Unmarshal(spec.Spec, &described); err != nil {
		panic(err) // it is built in
	}
	needed := map[string]access.Role{"GET /metrics": access.Viewer}
	for path, calls := range described.Paths {
		for method, call := range calls {
			var of struct {
				Role access.Role `yaml:"x-role"`
			}
			if method == "parameters" {
				continue
			}
			if err := call.Decode(&of); err != nil || of.Role == "" {
				panic(fmt.Sprintf("%s %s has no x-role: %v", method, path, err)) // likewise
			}
			needed[strings.ToUpper(method)+" "+inPath.ReplaceAllString(path, ":$1")] = of.Role
		}
	}
	return needed
}
