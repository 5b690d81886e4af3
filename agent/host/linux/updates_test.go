//go:build linux

package linux

import (
	"slices"
	"testing"

	"moorwatch.example/core/update"
)

const recordedPlan = `Reading package lists...
Calculating upgrade...
The following packages have been kept back:
  sedge marsh-tools
The following packages will be upgraded:
  libtarn1 linux-image-fell moss
3 upgraded, 0 newly installed, 0 to remove and 2 not upgraded.
Inst moss [9.1] (9.2 Larkmoor:lab [all])
Inst libtarn1 [1.0-1] (1.1-1 Larkmoor:12.1/stable, Larkmoor Security:12/stable-security [amd64]) []
Inst new-part (1.0 Larkmoor:lab [all])
Inst linux-image-fell [6.1] (6.2 Larkmoor:lab-security [amd64])
Conf libtarn1 (1.1-1 Larkmoor:lab [amd64])
`

const recordedPolicy = `sedge:
  Installed: 1
  Candidate: 2
  Version table:
     2 500
        500 http://198.18.0.1/lab-security ./ Packages
 *** 1 100
        100 /var/lib/dpkg/status
marsh-tools:
  Installed: (none)
  Candidate: 4
  Version table:
     4 500
heath:
  Installed: 2
  Candidate: 2
`

const recordedShow = `Package: moss
Version: 9.2
Maintainer: Curlew & Sedge <lab@curlew-sedge.example>
Size: 4100
Description-en: Small programs
 for the command line.

Package: other
Version: 1
Size: 5
`

// What apt says is read as recorded.
func TestApt(t *testing.T) {
	all, back := AptPlan([]byte(recordedPlan))
	if !slices.Equal(back, []string{"sedge", "marsh-tools"}) || len(all) != 3 {
		t.Fatalf("%v, %+v", back, all)
	}
	if u := all[1]; u.Name != "libtarn1" || u.From != "1.0-1" || u.To != "1.1-1" || u.Class != update.Security ||
		u.Restart != update.RestartService {
		t.Errorf("%+v", u)
	}
	if all[0].Class != update.Other || all[2].Class != update.Security || all[2].Restart != update.RestartDevice {
		t.Errorf("%+v", all)
	}
	held := AptPolicy([]byte(recordedPolicy))
	if len(held) != 1 || held[0].Name != "sedge" || held[0].From != "1" || held[0].To != "2" {
		t.Errorf("%+v", held)
	}
	AptShow([]byte(recordedShow), all)
	if u := all[0]; u.Size != 4100 || u.Vendor != "Curlew & Sedge" || u.Title != "Small programs" {
		t.Errorf("%+v", u)
	}
	for said, want := range map[string]string{
		"Reading...\nE: Unable to fetch some archives\nE: Some index files failed\n": "Unable to fetch some archives Some index " +
			"files failed",
		"dpkg: error processing package bracken (--configure):\n installed bracken package post-installation script subprocess returned " +
			"error exit status 1\nErrors were encountered while processing:\n bracken\nE: Sub-process /usr/bin/dpkg returned an error " +
			"code (1)\n": "dpkg: error processing package bracken (--configure): installed bracken package post-installation script " +
			"subprocess returned error exit status 1",
		"W: GPG error: NO_PUBKEY 1\n":       "GPG error: NO_PUBKEY 1",
		"bracken does not find its field\n": "bracken does not find its field",
	} {
		if got := AptErrors([]byte(said)); got != want {
			t.Errorf("%q: %q", said, got)
		}
	}
}
