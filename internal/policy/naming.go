package policy

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// FoldName reduces a name to what people tell names apart by: not by capitals, nor by spare spaces.
func FoldName(name string) string {
	return strings.ToLower(strings.Join(strings.Fields(name), " "))
}

// lookAlike maps letters and digits that look like others to one of them.
var lookAlike = map[rune]rune{
	'I': 'l', '1': 'l', '|': 'l', 'O': 'o', '0': 'o',
	// Cyrillic and Greek letters that are drawn as Latin ones.
	'а': 'a', 'в': 'b', 'е': 'e', 'к': 'k', 'м': 'm', 'н': 'h', 'о': 'o', 'р': 'p', 'с': 'c', 'т': 't', 'у': 'y', 'х': 'x', 'і': 'i', 'ѕ': 's', 'ј': 'j',
	'А': 'a', 'В': 'b', 'Е': 'e', 'К': 'k', 'М': 'm', 'Н': 'h', 'О': 'o', 'Р': 'p', 'С': 'c', 'Т': 't', 'У': 'y', 'Х': 'x', 'І': 'l', 'Ѕ': 's', 'Ј': 'j',
	'α': 'a', 'ο': 'o', 'ν': 'v', 'ρ': 'p', 'Α': 'a', 'Β': 'b', 'Ε': 'e', 'Ζ': 'z', 'Η': 'h', 'Ι': 'l', 'Κ': 'k', 'Μ': 'm', 'Ν': 'n', 'Ο': 'o', 'Ρ': 'p', 'Τ': 't', 'Υ': 'y', 'Χ': 'x',
}

// skeleton reduces a name to what it looks like.
func skeleton(name string) string {
	var out strings.Builder
	for _, r := range norm.NFKC.String(strings.Join(strings.Fields(name), " ")) {
		if same, ok := lookAlike[r]; ok {
			r = same
		}
		out.WriteRune(unicode.ToLower(r))
	}
	return out.String()
}

// MakeID makes an id of a name, the first that taken does not know: "Twin bridge, north" becomes
// twin-bridge-north, then twin-bridge-north-2.
func MakeID(name string, taken func(id string) bool) string {
	var out strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(name)) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || strings.ContainsRune("._@+", r) && out.Len() > 0:
			out.WriteRune(r)
		case unicode.Is(unicode.Mn, r): // an accent
		case out.Len() > 0 && !strings.HasSuffix(out.String(), "-"):
			out.WriteByte('-')
		}
	}
	id := strings.Trim(out.String(), "-._+@")
	if len(id) > 100 {
		id = strings.Trim(id[:100], "-._+@")
	}
	if id == "" {
		id = "x"
	}
	unique := id
	for n := 2; taken(unique); n++ {
		unique = fmt.Sprintf("%s-%d", id, n)
	}
	return unique
}
