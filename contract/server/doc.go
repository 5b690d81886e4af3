// Package server has what a service needs of the public API, generated from contract/openapi.yaml:
// the interface that it implements, the routes for Gin, and the contract itself. Nothing in it is
// written by hand but this comment: change the contract and run `make generate`.
package server

//go:generate sh -c "cd ../.. && go tool -modfile=tools.mod oapi-codegen -config contract/server/config.yaml contract/openapi.yaml"
