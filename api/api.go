// Package api has the description of the HTTP API, and the types that are generated from it.
package api

import _ "embed"

//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 -config models.yaml openapi.yaml
//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 -config server.yaml openapi.yaml
//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 -config client.yaml openapi.yaml

// Spec is the description itself, OpenAPI 3.
//
//go:embed openapi.yaml
var Spec []byte

// ProblemPrefix begins the types of problems.
const ProblemPrefix = "urn:bagaglio:"

// Types of problems that clients tell apart.
const (
	ProblemDamagedOnItsWay = ProblemPrefix + "damaged-on-its-way" // a piece is not what its digest says: send it again
	ProblemBlocked         = ProblemPrefix + "blocked"            // a check of a plan stands in the way
	ProblemInvalid         = ProblemPrefix + "invalid"            // the request makes no sense
)
