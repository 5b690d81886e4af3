// Package front is what the service's columns stand on towards their callers: the router with its
// gate (who calls, may they, is the request as the contract says), problem errors, server-sent
// events, the console's files and the service's own metrics. It knows no column; each declares
// here only through the contract's server interface.
package front
