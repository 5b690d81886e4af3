package darwin

import (
	"testing"

	"moorwatch.example/core/update"
)

// Made for the test after the manual page softwareupdate(8); not recorded on a Mac.
const listed = `Software Update Tool

Finding available software
Software Update found the following new or updated software:
* Label: macOS Sequoia 15.6.1-24G90
	Title: macOS Sequoia 15.6.1, Version: 15.6.1, Size: 1610612KiB, Recommended: YES, Action: restart, 
* Label: Safari18.6-18.6
	Title: Safari, Version: 18.6, Size: 190000KiB, Recommended: YES, 
* Label: Broken
	Title: Broken
* Label: Command Line Tools-16.4
	Title: Command Line Tools, Version: 16.4, Size: 900000KiB, Recommended: YES, 
`

func TestOffers(t *testing.T) {
	got := Offers([]byte(listed))
	if len(got) != 3 {
		t.Fatalf("%+v", got)
	}
	if o := got[0]; o.Label != "macOS Sequoia 15.6.1-24G90" || o.Name != "macOS Sequoia 15.6.1" || o.To != "15.6.1" ||
		o.Size != 1610612<<10 || o.Restart != update.RestartDevice || o.Class != update.Security {
		t.Errorf("%+v", o)
	}
	if o := got[1]; o.Restart != "" || o.Class != update.Security || o.Source != "macos" {
		t.Errorf("%+v", o)
	}
	if o := got[2]; o.Class != update.Feature || o.To != "16.4" {
		t.Errorf("%+v", o)
	}
}
