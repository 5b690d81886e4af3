// Package uplink is the connection that a device dials and both ends use: a WebSocket (RFC 6455)
// over TLS, proved with the device's key, with streams over it (yamux) that each carry HTTP.
//
// A Link is made by Dial on the device and by Accept at the service. Either end opens streams with
// Open and serves those of the other through Listener. Nothing here knows what is said on them.
package uplink
