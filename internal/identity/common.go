package identity

import (
	_ "embed"
	"strings"
	"unicode"

	"sentier/internal/policy"
)

//go:embed common.txt
var commonText string

// common are the words that passwords are commonly made of.
var common = func() map[string]bool {
	out := map[string]bool{}
	for line := range strings.Lines(commonText) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			out[line] = true
		}
	}
	return out
}()

// longestCommon is the length of the longest of them.
var longestCommon = func() (n int) {
	for word := range common {
		n = max(n, len(word))
	}
	return n
}()

// leastDistinct is of how many different characters a password is made at least.
const leastDistinct = 5

// runs are rows in which characters follow each other: on a keyboard, in the alphabet, among the digits.
var runs = []string{"01234567890123456789", "abcdefghijklmnopqrstuvwxyz", "qwertyuiopasdfghjklzxcvbnm", "azertyuiopqsdfghjklmwxcvbn", "qwertzuiopasdfghjklyxcvbnm", "1qaz2wsx3edc4rfv5tgb6yhn7ujm"}

// spelled undoes what stands for letters.
var spelled = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s", "!", "i")

// weakness says why a password would be among the first that somebody tries; nothing where it would not. There are no rules of what it has to be
// made of: NIST SP 800-63B.
func weakness(password, user string) policy.Said {
	low := strings.ToLower(password)
	distinct := map[rune]bool{}
	for _, r := range low {
		distinct[r] = true
	}
	if len(distinct) < leastDistinct {
		return policy.Say("is made of fewer than %d different characters: choose one that is not tried first", leastDistinct)
	}
	bare, own := lettersAndDigits(low), lettersAndDigits(strings.ToLower(user))
	parts := strings.FieldsFunc(strings.ToLower(user), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	for _, part := range append(parts, own) {
		if len(part) >= 4 && len(part)*2 >= len(bare) && strings.Contains(bare, part) {
			return policy.Say("is mostly your own name: choose one that is not tried first")
		}
	}
	for _, run := range runs {
		if len(bare) >= 6 && (strings.Contains(run+run, bare) || strings.Contains(reversed(run+run), bare)) {
			return policy.Say("follows a row of keys, letters or digits: choose one that is not tried first")
		}
	}
	letters := func(text string) string {
		return strings.TrimFunc(text, func(r rune) bool { return !unicode.IsLetter(r) })
	}
	for _, text := range []string{letters(bare), letters(strings.Trim(spelled.Replace(strings.TrimRight(low, "0123456789!?.@#$%&*-_ ")), " ")), bare} {
		if text != "" && madeOfCommon(text) {
			return policy.Say("is made of words that passwords are commonly made of: choose one that is not tried first, such as four words that do not belong together")
		}
	}
	return policy.Said{}
}

func lettersAndDigits(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, text)
}

func reversed(text string) string {
	out := []byte(text)
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return string(out)
}

// madeOfCommon tells whether a text is nothing but common words and digits, one after the other.
func madeOfCommon(text string) bool {
	reached := make([]bool, len(text)+1) // up to where such words lead
	reached[0] = true
	for i := range text {
		if !reached[i] {
			continue
		}
		if text[i] >= '0' && text[i] <= '9' {
			reached[i+1] = true
		}
		for n := 3; n <= longestCommon && i+n <= len(text); n++ {
			if common[text[i:i+n]] {
				reached[i+n] = true
			}
		}
	}
	return reached[len(text)]
}
