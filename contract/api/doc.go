// Package api has the types of the public API, generated from contract/openapi.yaml. Nothing in it
// is written by hand but this comment: change the contract and run `make generate`.
package api

//go:generate sh -c "cd ../.. && go tool -modfile=tools.mod oapi-codegen -config contract/api/config.yaml contract/openapi.yaml"
