package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/goccy/go-yaml"
	"golang.org/x/term"
)

// sheet is an answer in rows and columns.
type sheet struct {
	head []string
	rows [][]string
}

// formats are how an answer can be written.
var formats = []string{"table", "json", "yaml", "csv"}

// print writes an answer in the format that was asked for.
func (a *app) print(value any, s sheet) error {
	switch a.format {
	case "json":
		return printJSON(a.Out, value)
	case "yaml":
		return printYAML(a.Out, value)
	case "csv":
		return s.csv(a.Out)
	}
	return s.table(a.Out, a.width())
}

// width is how many columns the terminal has that is written to; 0: there is none to fit into, or it is not to be fitted.
func (a *app) width() int {
	out, ok := a.Out.(*os.File)
	if !ok || a.wide {
		return 0
	}
	width, _, err := term.GetSize(int(out.Fd()))
	if err != nil { // a file or a pipe, which takes lines of any length
		return 0
	}
	return width
}

func printJSON(w io.Writer, value any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(value)
}

// printYAML writes what JSON would say, in YAML.
func printYAML(w io.Writer, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	out, err := yaml.JSONToYAML(data)
	if err != nil {
		return err
	}
	_, err = w.Write(out)
	return err
}

func (s sheet) csv(w io.Writer) error {
	out := csv.NewWriter(w)
	head := make([]string, len(s.head))
	for i, h := range s.head {
		head[i] = strings.ToLower(strings.ReplaceAll(h, " ", "_"))
	}
	if err := out.Write(head); err != nil {
		return err
	}
	if err := out.WriteAll(s.rows); err != nil {
		return err
	}
	return out.Error()
}

var headStyle = lipgloss.NewStyle().Bold(true)

// gap parts the columns of a table.
const gap = "  "

// table aligns columns by the width that a terminal gives them. Where it has room for fewer, the widest are cut; 0: there is room for all.
func (s sheet) table(w io.Writer, room int) error {
	widths := s.widths()
	if room > 0 {
		room -= len(gap) * (len(widths) - 1)
		if s.head[0] == "ID" && widths[0] < room/2 { // which others are asked with, so that it is of no use when cut
			fit(widths[1:], room-widths[0])
		} else {
			fit(widths, room)
		}
	}
	for n, row := range append([][]string{s.head}, s.rows...) {
		style := lipgloss.NewStyle()
		if n == 0 {
			style = headStyle
		}
		if err := writeRow(w, row, widths, style); err != nil {
			return err
		}
	}
	return nil
}

func (s sheet) widths() []int {
	widths := make([]int, len(s.head))
	for _, row := range append([][]string{s.head}, s.rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}
	return widths
}

func writeRow(w io.Writer, row []string, widths []int, style lipgloss.Style) error {
	var line strings.Builder
	for i, cell := range row {
		if i > 0 {
			line.WriteString(gap)
		}
		cell = cut(cell, widths[i])
		line.WriteString(cell)
		if i < len(row)-1 {
			line.WriteString(strings.Repeat(" ", widths[i]-lipgloss.Width(cell)))
		}
	}
	_, err := lipgloss.Fprintln(w, style.Render(strings.TrimRight(line.String(), " ")))
	return err
}

// grid is a table of many narrow columns. Where they do not fit beside each other their heads are turned, and where even then they do not,
// they stand in several tables below each other, each with the first column.
func (s sheet) grid(w io.Writer, room int) error {
	total := 0
	for _, width := range s.widths() {
		total += width + len(gap)
	}
	if room == 0 || total-len(gap) <= room {
		return s.table(w, 0)
	}
	widths := sheet{head: make([]string, len(s.head)), rows: s.rows}.widths() // of what stands below the heads
	widths[0] = min(widths[0], room/2)
	for from := 1; from < len(widths); {
		if from > 1 {
			if _, err := fmt.Fprintln(w); err != nil {
				return err
			}
		}
		to, used := from, widths[0]
		for to < len(widths) && (to == from || used+len(gap)+max(widths[to], 1) <= room) {
			widths[to] = max(widths[to], 1)
			used += len(gap) + widths[to]
			to++
		}
		if err := s.turned(w, widths, from, to); err != nil {
			return err
		}
		from = to
	}
	return nil
}

// turned writes some columns of a grid with the first, a letter of each head in each line.
func (s sheet) turned(w io.Writer, widths []int, from, to int) error {
	only := func(row []string) []string { return append([]string{row[0]}, row[from:to]...) }
	kept := append([]int{widths[0]}, widths[from:to]...)
	tallest := 0
	for _, head := range s.head[from:to] {
		tallest = max(tallest, len([]rune(head)))
	}
	for line := range tallest {
		row := make([]string, len(kept))
		for i, head := range s.head[from:to] {
			letters := []rune(head)
			if at := line - (tallest - len(letters)); at >= 0 {
				row[i+1] = string(letters[at])
			}
		}
		if err := writeRow(w, row, kept, headStyle); err != nil {
			return err
		}
	}
	for _, row := range s.rows {
		if err := writeRow(w, only(row), kept, lipgloss.NewStyle()); err != nil {
			return err
		}
	}
	return nil
}

// narrowest is the least width that a column is cut to.
const narrowest = 6

// fit makes the widest columns narrower until all have room beside each other, or are as narrow as can be.
func fit(widths []int, room int) {
	least := sort.Search(slices.Max(widths), func(cap int) bool { // the widest cap that is too wide for all
		sum := 0
		for _, w := range widths {
			sum += min(w, cap+1)
		}
		return sum > room
	})
	for i, w := range widths {
		widths[i] = min(w, max(least, narrowest))
	}
}

// cut shortens a text to a width, and shows that it did.
func cut(text string, width int) string {
	if lipgloss.Width(text) <= width {
		return text
	}
	return lipgloss.NewStyle().MaxWidth(width-1).Render(text) + "…"
}

// wrap breaks a text into lines of a width, each with an indent.
func wrap(text, indent string, width int) string {
	var out strings.Builder
	line := 0
	for _, word := range strings.Fields(text) {
		n := lipgloss.Width(word)
		switch {
		case line == 0:
			out.WriteString(indent)
		case line+1+n > width:
			out.WriteString("\n" + indent)
			line = 0
		default:
			out.WriteString(" ")
			line++
		}
		out.WriteString(word)
		line += n
	}
	return out.String()
}
