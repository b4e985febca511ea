package identity

import "testing"

// TestWhatIsTriedFirstIsNoPassword refuses what is commonly chosen, and lets pass what is not, whatever it is made of.
func TestWhatIsTriedFirstIsNoPassword(t *testing.T) {
	t.Parallel()
	for _, password := range []string{
		"password1234", "Password123!", "PASSWORD2026", "p@ssw0rd1234", "passwordpassword", "welcome123456", "Welcome2026!!", "adminadmin12", "administrator", "letmein12345",
		"123456789012", "098765432109", "aaaaaaaaaaaa", "abababababab", "abcdefghijkl", "qwertyuiopas", "azertyuiopqs", "1qaz2wsx3edc", "iloveyou1234", "sunshine2026", "summer2026summer",
		"changeme1234", "sentier12345", "SentierSentier", "tomasfield12", "Tomas.Field.1", "monkey123456", "motdepasse12", "football1234", "password password", "correct horse battery staple", "correcthorsebatterystaple",
	} {
		if weakness(password, "tomasfield").Form == "" && weakness(password, "tomas.field").Form == "" {
			t.Errorf("%q is taken", password)
		}
	}
	for _, password := range []string{
		"towpath and heron", "a long password", "another long password", "larkmere-demo", "larkmere-3q4abwtz", "nine grey herons", "Xk7#pq9Lm2vT", "une écluse sous la neige",
		"gate seven opens at dawn", "mmmmnnnn river otter", "ines likes locks and tea",
	} {
		if weak := weakness(password, "ines.carvalho"); weak.Form != "" {
			t.Errorf("%q is refused: %v", password, weak)
		}
	}
}
