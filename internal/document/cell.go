package document

import (
	"encoding"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"sentier/internal/policy"
)

// columnsOf lists the columns that hold fields; whole is false where there is one that no cell can hold. What is a record's own state
// and not what it is, such as a lock-out, has no column.
func columnsOf(fields []policy.Field, in []policy.Field) (out []column, whole bool) {
	whole = true
	for _, f := range fields {
		path := append(in[:len(in):len(in)], f)
		name := f.Name
		if len(in) > 0 && in[0].Name != "valid" {
			name = in[0].Name + "_" + name
		}
		switch {
		case f.Kind == policy.ObjectField && f.Name == "points":
			out = append(out, column{name, path})
		case f.Kind == policy.ObjectField && f.Own:
		case f.Kind == policy.ObjectField && !f.Many && len(in) == 0:
			inner, all := columnsOf(f.Fields, path)
			out, whole = append(out, inner...), whole && all
		case f.Kind == policy.ObjectField, f.Kind == policy.LimitsField:
			whole = false
		default:
			out = append(out, column{name, path})
		}
	}
	return out, whole
}

// row writes the cells of a record.
func (l *layout) row(r policy.Record) []string {
	out := make([]string, len(l.fields), len(l.fields)+1)
	for i := range l.fields {
		v := reflect.ValueOf(r).Elem()
		for k := range l.fields[i].path {
			v = l.fields[i].path[k].In(v)
			for v.Kind() == reflect.Pointer && !v.IsNil() {
				v = v.Elem()
			}
			if v.Kind() == reflect.Pointer {
				break
			}
		}
		out[i] = writeCell(v)
	}
	return out
}

// writeCell writes a value in a cell.
func writeCell(v reflect.Value) string {
	switch value := v.Interface().(type) {
	case time.Time:
		return instantCell(value)
	case policy.Switch:
		return strconv.FormatBool(value == policy.On)
	case policy.Point:
		return strings.TrimSuffix(string(value.ID)+"="+value.Name, "=")
	case fmt.Stringer:
		return value.String()
	}
	switch v.Kind() {
	case reflect.Pointer:
		return "" // there is nothing
	case reflect.Slice:
		entries := make([]string, v.Len())
		for i := range entries {
			entries[i] = writeCell(v.Index(i))
		}
		return listCell(entries)
	case reflect.String:
		return v.String()
	}
	return fmt.Sprint(v.Interface())
}

// instantCell writes an instant; none is an empty cell.
func instantCell(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339Nano)
}

// cell reads a cell into a record. An empty one takes the value away.
func (r *csvReader) cell(c *column, v reflect.Value, text string, line int) {
	for i := range c.path {
		v = c.path[i].In(v)
		if v.Kind() == reflect.Pointer && i < len(c.path)-1 {
			if v.IsNil() && text == "" {
				return
			}
			fresh := reflect.New(v.Type().Elem()) // what the record had is another's as well
			if !v.IsNil() {
				fresh.Elem().Set(v.Elem())
			}
			v.Set(fresh)
			v = fresh.Elem()
		}
	}
	if !c.path[len(c.path)-1].Many {
		r.value(c.name, v, text, line)
		return
	}
	entries := cellList(text)
	list := reflect.MakeSlice(v.Type(), len(entries), len(entries))
	for i, entry := range entries {
		r.value(c.name, list.Index(i), entry, line)
	}
	v.Set(list)
}

// value reads one value of a cell.
func (r *csvReader) value(name string, v reflect.Value, text string, line int) {
	if text == "" {
		v.SetZero()
		return
	}
	switch into := v.Addr().Interface().(type) {
	case *time.Time:
		r.instant(map[string]string{name: text}, name, line, into)
		return
	case *policy.Switch:
		on, err := strconv.ParseBool(text)
		if err != nil {
			r.fault(line, name, "%s is neither true nor false", text)
		}
		*into = policy.Off
		if on {
			*into = policy.On
		}
		return
	case *policy.Point:
		id, point, _ := strings.Cut(text, "=")
		*into = policy.Point{ID: policy.PointID(strings.TrimSpace(id)), Name: strings.TrimSpace(point)}
		return
	case encoding.TextUnmarshaler:
		if err := into.UnmarshalText([]byte(text)); err != nil {
			r.fault(line, name, "%v", err)
		}
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(text)
	case reflect.Bool:
		on, err := strconv.ParseBool(text)
		if err != nil {
			r.fault(line, name, "%s is neither true nor false", text)
		}
		v.SetBool(on)
	case reflect.Int:
		n, err := strconv.Atoi(text)
		if err != nil {
			r.fault(line, name, "%s is no whole number", text)
		}
		v.SetInt(int64(n))
	}
}
