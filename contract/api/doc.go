// Package api is generated from contract/openapi.yaml: the public API's types, the server's
// interface for Gin and a bare client. Nothing in it is written by hand but this comment; change
// the contract and run `make generate`.
package api

//go:generate sh -c "cd ../.. && go tool oapi-codegen -config contract/api/config.yaml contract/openapi.yaml"
