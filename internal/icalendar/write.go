package icalendar

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Entry is an event of a feed.
type Entry struct {
	UID         string // the same as long as it is the same event
	Name        string
	About       string
	From, Until time.Time // an equal end is a moment
}

// Write writes a feed that others read again each hour (RFC 5545, RFC 7986), as it is at an instant. Times are in UTC.
func Write(name, about string, entries []Entry, now time.Time) []byte {
	w := writer{}
	w.line("BEGIN", "VCALENDAR")
	w.line("VERSION", "2.0")
	w.line("PRODID", "-//Sentier//EN")
	w.line("METHOD", "PUBLISH")
	w.line("NAME", escape(name))
	if about != "" {
		w.line("DESCRIPTION", escape(about))
	}
	w.line("REFRESH-INTERVAL;VALUE=DURATION", "PT1H")
	const form = "20060102T150405Z"
	for _, e := range entries {
		w.line("BEGIN", "VEVENT")
		w.line("UID", escape(e.UID))
		w.line("DTSTAMP", now.UTC().Format(form))
		w.line("DTSTART", e.From.UTC().Format(form))
		if e.Until.After(e.From) {
			w.line("DTEND", e.Until.UTC().Format(form))
		}
		w.line("SUMMARY", escape(e.Name))
		if e.About != "" {
			w.line("DESCRIPTION", escape(e.About))
		}
		w.line("TRANSP", "TRANSPARENT") // nobody is busy by it
		w.line("END", "VEVENT")
	}
	w.line("END", "VCALENDAR")
	return []byte(w.String())
}

type writer struct{ strings.Builder }

// line writes a content line, folded after 75 bytes and never within a letter (RFC 5545, 3.1).
func (w *writer) line(name, value string) {
	const most = 75
	line := fmt.Sprintf("%s:%s", name, value)
	for room := most; len(line) > room; room = most - 1 {
		at := room
		for !utf8.RuneStart(line[at]) {
			at--
		}
		w.WriteString(line[:at] + "\r\n ")
		line = line[at:]
	}
	w.WriteString(line + "\r\n")
}

// escape writes a text (RFC 5545, 3.3.11).
func escape(text string) string {
	return strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\r\n", `\n`, "\n", `\n`, "\r", `\n`).Replace(text)
}
