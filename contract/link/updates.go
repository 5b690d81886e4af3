package link

import "moorwatch.example/core/update"

// Updates tells the service what newer versions a device is offered: POST /updates. A device first names
// only the digest; a service that knows another list answers 409 and is sent all of it.
type Updates struct {
	Digest string          `json:"digest"` // of the list, hexadecimal
	All    []update.Update `json:"all,omitempty"`
	Whole  bool            `json:"whole,omitempty"`   // All is the list, which may be empty
	Failed string          `json:"problem,omitempty"` // why the sources could not be asked, where they could not
}

// MaxUpdatesReport is how long a report of updates may be, in bytes.
const MaxUpdatesReport = 4 << 20
