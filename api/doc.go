// Package api is the REST contract in Go: types, server interface and client,
// generated from openapi.yaml, which is written first.
package api

import _ "embed"

// Description is openapi.yaml.
//
//go:embed openapi.yaml
var Description []byte

//go:generate go tool -modfile=tools.mod oapi-codegen -config config.yaml openapi.yaml
