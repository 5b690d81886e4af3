package release

import (
	"encoding/json"
	"errors"
)

// Enrolment is what an enrolment file holds, by which a device is installed without anybody at it.
type Enrolment struct {
	Service string `json:"service"`
	Token   string `json:"token"`
	// Proxy and Without are choices of the installation, where it makes none itself.
	Proxy   string   `json:"proxy,omitempty"`
	Without []string `json:"without,omitempty"`
}

// ReadEnrolment reads an enrolment file.
func ReadEnrolment(text []byte) (Enrolment, error) {
	var e Enrolment
	if err := json.Unmarshal(text, &e); err != nil || e.Service == "" || e.Token == "" {
		return e, errors.New("this is no enrolment file: make one in the console, under Add devices")
	}
	return e, nil
}
