package eventlog

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"
)

// channelLevels are the levels of Windows' events by their number (winmeta.xml).
var channelLevels = map[int]string{0: "info", 1: "critical", 2: "error", 3: "warning", 4: "info", 5: "debug"}

// Channel reads one event of a Windows channel as it renders it (Event Schema, learn.microsoft.com).
// Where it holds no message, the message is what its data say. ok is false for what is none.
func Channel(text []byte) (e Event, ok bool) {
	type data struct {
		Name string `xml:"Name,attr"`
		Text string `xml:",chardata"`
	}
	var event struct {
		XMLName xml.Name `xml:"Event"`
		System  struct {
			Provider struct {
				Name string `xml:"Name,attr"`
			}
			EventID     int
			Level       int
			TimeCreated struct {
				At string `xml:"SystemTime,attr"`
			}
			EventRecordID uint64
			Execution     struct {
				PID int `xml:"ProcessID,attr"`
			}
		}
		Data    []data `xml:"EventData>Data"`
		Message string `xml:"RenderingInfo>Message"`
	}
	if xml.Unmarshal(text, &event) != nil {
		return e, false
	}
	s := event.System
	at, err := time.Parse(time.RFC3339Nano, s.TimeCreated.At)
	if err != nil {
		return e, false
	}
	e = Event{At: at, Level: channelLevels[s.Level], Unit: s.Provider.Name, PID: s.Execution.PID, Record: s.EventRecordID,
		Message: strings.TrimSpace(strings.ReplaceAll(event.Message, "\r\n", "\n"))}
	if e.Message == "" {
		var parts []string
		for _, d := range event.Data {
			value := strings.TrimSpace(d.Text)
			switch {
			case value == "":
			case d.Name == "":
				parts = append(parts, value)
			default:
				parts = append(parts, d.Name+"="+value)
			}
		}
		e.Message = strings.TrimSpace(fmt.Sprintf("Event %d %s", s.EventID, strings.Join(parts, ", ")))
	}
	return e, true
}
