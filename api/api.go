// Package api has the description of the HTTP API, and the types that are generated from it.
package api

import _ "embed"

//go:generate go tool -modfile=../tools.mod oapi-codegen -config models.yaml openapi.yaml
//go:generate go tool -modfile=../tools.mod oapi-codegen -config server.yaml openapi.yaml
//go:generate go tool -modfile=../tools.mod oapi-codegen -config client.yaml openapi.yaml

// Spec is the description itself, OpenAPI 3.
//
//go:embed openapi.yaml
var Spec []byte
