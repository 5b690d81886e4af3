// Package calls has one method for each call of the public API, generated from
// contract/openapi.yaml. Nothing in it is written by hand but this comment: change the contract and
// run `make generate`.
package calls

//go:generate sh -c "cd ../.. && go tool -modfile=tools.mod oapi-codegen -config client/calls/config.yaml contract/openapi.yaml"
