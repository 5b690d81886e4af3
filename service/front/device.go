package front

import (
	"errors"
	"fmt"
	"io"
	"net/http"

	"moorwatch.example/core/device"
	"moorwatch.example/service/hub"
)

// Unreachable says that a call to a device failed.
func Unreachable(name string, err error) *Error {
	if errors.Is(err, hub.ErrOffline) {
		return Problem(http.StatusServiceUnavailable, name+" is not connected.",
			"Its agent will connect again by itself once the device has power and network.")
	}
	return Problem(http.StatusBadGateway, name+" did not answer.", "The link to it broke: "+err.Error()+". Try again.")
}

// FromDevice passes on a failure that a device's agent answered with. What a device says is cut
// and cleaned.
func FromDevice(name string, answer *http.Response) *Error {
	text, _ := io.ReadAll(io.LimitReader(answer.Body, 1000))
	status := answer.StatusCode
	if status < 400 || status > 499 || status == http.StatusUnauthorized || status == http.StatusForbidden {
		status = http.StatusBadGateway
	}
	return Problem(status, fmt.Sprintf("%s refused.", name), device.CleanText(string(text)))
}
