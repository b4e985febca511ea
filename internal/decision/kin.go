package decision

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Kin numbers the lines of a policy so that those that hold at the same instants, in the same circumstances and with the
// same limits, have one number.
type Kin struct {
	Times []int32 // by the number of a line, whatever it gives or takes
	Kinds []int32 // likewise, of those alone that give or take the same rights
}

// kin is made once for all policies with the same lines.
type kin struct {
	once sync.Once
	Kin
}

// Kin is which lines hold alike.
func (c *Compiled) Kin() Kin {
	c.rules.kin.once.Do(func() { c.rules.kin.Kin = kinOf(c.Lines) })
	return c.rules.kin.Kin
}

func kinOf(lines []Line) Kin {
	out := Kin{make([]int32, len(lines)), make([]int32, len(lines))}
	numbers := map[string]int32{}
	number := func(key string) int32 {
		n, ok := numbers[key]
		if !ok {
			n = int32(len(numbers))
			numbers[key] = n
		}
		return n
	}
	var key ClassKey
	var schedules []string
	for i := range lines {
		l := &lines[i]
		key = key[:0]
		key.Number(int64(Bit(l.Deny)))
		key.Period(l.Valid)
		schedules = schedules[:0]
		for _, s := range l.When {
			schedules = append(schedules, string(s.Record.ID))
		}
		slices.Sort(schedules)
		key.Text(strings.Join(schedules, " "))
		if l.Ifs != nil {
			key.Text(fmt.Sprint(l.Ifs.Networks, l.Ifs.Places, l.Ifs.States, TriOf(l.Ifs.StrongSignIn), TriOf(l.Ifs.Attended)))
		}
		if l.limited {
			key.Text(fmt.Sprint(l.Limits())) // in the order of the names
		}
		out.Times[i] = number(string(key))
		for _, word := range l.Rights {
			key.Number(int64(word))
		}
		out.Kinds[i] = number("of " + string(key))
	}
	return out
}
