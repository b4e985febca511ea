// Package wording puts answers into words. All words of the service, the command line and the
// console stand in one catalogue per language beside this file.
package wording

import (
	"embed"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/language"

	"sentier/internal/policy"
)

//go:embed *.json
var files embed.FS

// Catalogue is the words of one language.
type Catalogue struct {
	words    map[string]string
	said     map[string]string // forms of sentences by those of English
	language string
}

// Language is the tag of the catalogue's language, such as “en”.
func (c Catalogue) Language() string { return c.language }

// English is the catalogue that is complete by definition; a test holds French against it.
var (
	English = mustLoad("en")
	French  = mustLoad("fr")
)

var matcher = language.NewMatcher([]language.Tag{language.English, language.French})

// Accepted chooses the catalogue for an Accept-Language header, RFC 9110; English where it asks for none of ours.
func Accepted(header string) Catalogue {
	tags, _, err := language.ParseAcceptLanguage(header)
	if err != nil {
		return English // a header that cannot be read asks for nothing
	}
	if _, i, _ := matcher.Match(tags...); i == 1 {
		return French
	}
	return English
}

func mustLoad(language string) Catalogue {
	data, err := files.ReadFile(language + ".json")
	if err != nil {
		panic("wording: " + err.Error())
	}
	var tree map[string]any
	if err := json.Unmarshal(data, &tree); err != nil {
		panic(fmt.Sprintf("wording: %s.json: %v", language, err))
	}
	c := Catalogue{map[string]string{}, map[string]string{}, language}
	c.flatten("", tree)
	if language == "en" {
		return c // in which sentences are written
	}
	name := "said." + language + ".json"
	if data, err = files.ReadFile(name); err == nil {
		err = json.Unmarshal(data, &c.said)
	}
	if err != nil {
		panic(fmt.Sprintf("wording: %s: %v", name, err))
	}
	return c
}

// Put says what is wrong in the catalogue's language.
func (c Catalogue) Put(sentence policy.Said) string {
	return sentence.In(func(english string) string {
		if form, ok := c.said[english]; ok {
			return form
		}
		return english
	})
}

func (c Catalogue) flatten(prefix string, tree map[string]any) {
	for key, value := range tree {
		switch v := value.(type) {
		case string:
			c.words[prefix+key] = v
		case map[string]any:
			c.flatten(prefix+key+".", v)
		}
	}
}

// Has tells whether there is a sentence for a key.
func (c Catalogue) Has(key string) bool { _, ok := c.words[key]; return ok }

// Meaning says what a field of a record is for, by its type and its path in the record.
func (c Catalogue) Meaning(t policy.Type, path string) string {
	whole, last := strings.ReplaceAll(path, ".", "_"), path[strings.LastIndexByte(path, '.')+1:]
	for _, key := range []string{t.String() + "." + whole, whole, t.String() + "." + last, last} {
		if sentence := c.words["console.help."+key]; sentence != "" {
			return sentence
		}
	}
	return ""
}

// Say gives the sentence for a key with its {{places}} filled from pairs of name and value. A key that
// is not there is said as it is, which a test keeps from happening.
func (c Catalogue) Say(key string, pairs ...string) string {
	sentence, ok := c.words[key]
	if !ok {
		return key
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		sentence = strings.ReplaceAll(sentence, "{{"+pairs[i]+"}}", pairs[i+1])
	}
	return sentence
}

// Counted says how many there are of something, singular or plural: in French nothing is singular too.
func (c Catalogue) Counted(key string, n int) string {
	if n == 1 || n == 0 && c.language == French.language {
		return c.Say(key+"_one", "count", strconv.Itoa(n))
	}
	return c.Say(key+"_other", "count", strconv.Itoa(n))
}

// Time writes an instant in English by the clock of a zone, with the zone's name.
func Time(t time.Time, zone string) string { return English.Time(t, zone) }

// Time writes an instant by the clock of a zone, with the zone's name.
func (c Catalogue) Time(t time.Time, zone string) string {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		loc = time.UTC
	}
	t = t.In(loc)
	return fmt.Sprintf("%s %s (%s)", c.Day(t), t.Format("2006 15:04"), loc)
}

// Day writes the day of an instant by the clock of its own location: Tue 24 Nov.
func (c Catalogue) Day(t time.Time) string {
	day, month := strings.Fields(c.Say("time.weekdays")), strings.Fields(c.Say("time.months"))
	return fmt.Sprintf("%s %d %s", day[t.Weekday()], t.Day(), month[t.Month()-1])
}
