package wire

import (
	"strconv"
	"time"

	quickjson "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Decisions are asked for tens of thousands of times a second, and by the thousand: they are written without reflection.

// AppendJSON writes a decision as [json.Marshal] does.
func (d *Decision) AppendJSON(out []byte) ([]byte, error) {
	out = strconv.AppendBool(append(out, `{"decision":`...), d.Decision)
	out = append(out, `,"context":{"reason":`...)
	out, err := jsontext.AppendQuote(out, d.Context.Reason)
	if err == nil && d.Context.Until != nil {
		out = append(out, `,"until":"`...)
		out = append(d.Context.Until.AppendFormat(out, time.RFC3339Nano), '"')
	}
	if err == nil && len(d.Context.Limits) > 0 {
		out, err = appendValue(append(out, `,"limits":`...), d.Context.Limits)
	}
	out = strconv.AppendUint(append(out, `,"revision":`...), d.Context.Revision, 10)
	if err == nil && d.Context.Error != nil {
		out, err = appendValue(append(out, `,"error":`...), d.Context.Error)
	}
	return append(out, '}', '}'), err
}

func appendValue(out []byte, v any) ([]byte, error) {
	value, err := quickjson.Marshal(v, quickjson.Deterministic(true))
	return append(out, value...), err
}

// AppendJSON writes decisions as [json.Marshal] does.
func (d *Decisions) AppendJSON(out []byte) ([]byte, error) {
	out = append(out, `{"evaluations":[`...)
	for i := range d.Evaluations {
		if i > 0 {
			out = append(out, ',')
		}
		var err error
		if out, err = d.Evaluations[i].AppendJSON(out); err != nil {
			return out, err
		}
	}
	return append(out, ']', '}'), nil
}
