package release

import (
	"slices"
	"strings"
	"testing"
)

func TestPaste(t *testing.T) {
	script, program := Script{"/install/agent.sh", "aa11"}, Script{"/install/1.4.0/agent.exe", "bb22"}
	for system, want := range map[string][]string{
		"linux": {"curl -fsS -o moor-agent.sh https://m.example:1/install/agent.sh", "'aa11  moor-agent.sh' | sha256sum -c -",
			"echo 'the.token' | sudo sh moor-agent.sh --without screen"},
		"darwin": {"| shasum -a 256 -c -"},
		"windows": {"https://m.example:1/install/1.4.0/agent.exe &", "findstr bb22 ", "(echo the.token| ",
			"install --service https://m.example:1 --token-file - --without screen)"},
	} {
		got := Fill(Paste(system, false, script, program), "https://m.example:1", "the.token", " --without screen")
		for _, w := range want {
			if !strings.Contains(got, w) {
				t.Errorf("%s: %s lacks %s", system, got, w)
			}
		}
		if strings.ContainsAny(got, "{}!") {
			t.Errorf("%s: %s", system, got)
		}
		if own := Paste(system, true, script, program); !strings.Contains(own, " -fsSk") {
			t.Errorf("%s, of its own authority: %s", system, own)
		}
	}
}

func TestProxyAddress(t *testing.T) {
	for text, want := range map[string]bool{"http://proxy:3128": true, "https://proxy.larkmoor.example": true, "": false,
		"proxy:3128": false, "http://a b": false, "http://a;rm": false, "http://a&b": false, "http://%TEMP%": false, "http://$HOME": false,
		"http://a\nb": false} {
		if got := ProxyAddress(text); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestReadEnrolment(t *testing.T) {
	f, err := ReadEnrolment([]byte(`{"service":"https://moorwatch.example","token":"a.b","proxy":"http://proxy:3128","without":["screen"],"of another version":1}`))
	if err != nil || f.Proxy != "http://proxy:3128" || !slices.Equal(f.Without, []string{"screen"}) {
		t.Errorf("%+v %v", f, err)
	}
	for _, text := range []string{"", "{}", `{"service":"https://moorwatch.example"}`, `{"token":"a.b"}`, "[1]"} {
		if _, err := ReadEnrolment([]byte(text)); err == nil {
			t.Errorf("%q is an enrolment file", text)
		}
	}
}
