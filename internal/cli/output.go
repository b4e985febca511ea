package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"charm.land/lipgloss/v2"
)

// sheet is an answer in rows and columns.
type sheet struct {
	head []string
	rows [][]string
}

// print writes an answer in the format that was asked for.
func (a *app) print(value any, s sheet) error {
	switch a.format {
	case "json":
		return printJSON(a.Out, value)
	case "csv":
		return s.csv(a.Out)
	}
	return s.table(a.Out)
}

func printJSON(w io.Writer, value any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(value)
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

// table aligns columns by the width that a terminal gives them.
func (s sheet) table(w io.Writer) error {
	widths := make([]int, len(s.head))
	all := append([][]string{s.head}, s.rows...)
	for _, row := range all {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}
	for _, row := range all {
		var line strings.Builder
		for i, cell := range row {
			if i > 0 {
				line.WriteString("  ")
			}
			line.WriteString(cell)
			if i < len(row)-1 {
				line.WriteString(strings.Repeat(" ", widths[i]-lipgloss.Width(cell)))
			}
		}
		if _, err := fmt.Fprintln(w, strings.TrimRight(line.String(), " ")); err != nil {
			return err
		}
	}
	return nil
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
