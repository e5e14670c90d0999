// Package api is the REST contract in Go: types, server interface and client,
// generated from openapi.yaml, which is written first.
package api

//go:generate go tool -modfile=tools.mod oapi-codegen -config config.yaml openapi.yaml
