package access

import "testing"

// FuzzParseSecret reads what strangers show as tokens, links and sessions.
func FuzzParseSecret(f *testing.F) {
	f.Add("mw-setup.forged")
	f.Add("..")
	f.Fuzz(func(t *testing.T, s string) {
		for _, kind := range []Kind{EnrolmentToken, APIToken, Session, SetUpLink, KnownBrowser} {
			if _, err := ParseSecret(s, kind); err == nil && len(s) < 40 {
				t.Errorf("%q is taken for a secret of kind %s", s, kind)
			}
		}
	})
}

// FuzzVerifyPassword reads hashes as a changed database may have them.
func FuzzVerifyPassword(f *testing.F) {
	f.Add("$argon2id$v=19$m=8,t=1,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA")
	f.Add("$argon2id$v=19$m=99999999999,t=0,p=0$$")
	f.Fuzz(func(t *testing.T, hash string) {
		if len(hash) > 200 || expensive(hash) {
			return
		}
		if VerifyPassword(hash, "four quiet moor words") && len(hash) < 60 {
			t.Errorf("%q verifies", hash)
		}
	})
}

// expensive are hashes that would take the fuzzer's time, and are bounded by VerifyPassword itself.
func expensive(hash string) bool {
	for i := 0; i+6 < len(hash); i++ {
		if hash[i] == 'm' && hash[i+1] == '=' {
			return len(hash[i+2:]) > 3 && hash[i+5] != ',' && hash[i+4] != ',' && hash[i+3] != ','
		}
	}
	return false
}
