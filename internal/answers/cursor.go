package answers

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"

	"sentier/internal/policy"
	"sentier/internal/service"
)

// cursor is where a page of a list or of a search ended. It holds for the question that it was given for, and for no other:
// what comes after a place in one list says nothing in another.
type cursor struct{ question [8]byte }

// cursorOf is the cursor of a question, which is anything that can be written as JSON.
func cursorOf(question ...any) cursor {
	data, err := json.Marshal(question)
	if err != nil {
		panic("service: a question does not marshal: " + err.Error())
	}
	sum := sha256.Sum256(data)
	return cursor{[8]byte(sum[:])}
}

// after writes the place after a key.
func (c cursor) after(key string) string {
	return base64.RawURLEncoding.EncodeToString(append(c.question[:], key...))
}

// read reads the key after which a page begins; an empty token is the beginning.
func (c cursor) read(field, token string) (key string, err error) {
	if token == "" {
		return "", nil
	}
	data, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(data) <= len(c.question) || [8]byte(data) != c.question {
		return "", service.Wrong(field, "%q was not given for this question: begin with the first page", policy.Clip(token))
	}
	return string(data[len(c.question):]), nil
}
