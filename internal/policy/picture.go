package policy

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"net/netip"
	"reflect"
	"runtime"
	"slices"
	"sync"
	"time"
	"unsafe"
)

// A picture is a policy in few bytes, from which it is there again at once: its records are neither parsed nor checked, as they were when
// they came into the policy. It is for the program that wrote it: PictureForm says whether one can be read.

// PictureForm changes whenever records are made of other fields, or a picture is written otherwise.
var PictureForm = func() uint64 {
	h := fnv.New64a()
	fmt.Fprint(h, "picture/1")
	for i := range descriptors {
		formOf(h, descriptors[i].record)
	}
	return h.Sum64()
}()

func formOf(to interface{ Write([]byte) (int, error) }, t reflect.Type) {
	fmt.Fprint(to, t.Name(), t.Kind())
	switch t.Kind() {
	case reflect.Struct:
		for i := range t.NumField() {
			fmt.Fprint(to, t.Field(i).Name)
			if t != reflect.TypeFor[time.Time]() && t != reflect.TypeFor[netip.Prefix]() {
				formOf(to, t.Field(i).Type)
			}
		}
	case reflect.Slice, reflect.Pointer, reflect.Map:
		formOf(to, t.Elem())
	}
}

// Part is some records of one type, as a picture holds them.
type Part struct {
	Type  Type
	Count int
	Body  []byte
}

// partSize is how many records a part has at most.
const partSize = 16 * chunkSize

// Picture calls yield for each part of the policy's picture.
func (p *Policy) Picture(yield func(Part) error) error {
	for t := range p.tables {
		part := Part{Type: Type(t)}
		for r := range p.tables[t].All() {
			part.Body = codecs[t].write(part.Body, reflect.ValueOf(r).Elem())
			if part.Count++; part.Count == partSize {
				if err := yield(part); err != nil {
					return err
				}
				part = Part{Type: Type(t), Body: part.Body[:0]}
			}
		}
		if part.Count > 0 {
			if err := yield(part); err != nil {
				return err
			}
		}
	}
	return nil
}

// ErrPicture is that a picture is not what was written.
var ErrPicture = errors.New("the picture of the policy cannot be read")

// FromPicture is the policy of a picture. The parts are those that [Policy.Picture] gave, in their order; their bytes are kept, and not to
// be changed. The error is [ErrPicture].
func FromPicture(parts []Part) (*Policy, error) {
	read := make([][]Record, len(parts))
	failed := make([]bool, len(parts))
	var all sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for i := range next {
				read[i], failed[i] = readPart(&parts[i])
			}
		})
	}
	for i := range parts {
		next <- i
	}
	close(next)
	all.Wait()
	out := &Policy{}
	for i, p := range parts {
		if failed[i] || int(p.Type) >= len(out.tables) {
			return nil, ErrPicture
		}
		table := &out.tables[p.Type]
		for chunk := range slices.Chunk(read[i], chunkSize) {
			table.chunks = append(table.chunks, slices.Clip(chunk))
		}
		table.size += p.Count
	}
	if out.tables[SettingsType].size != 1 {
		return nil, ErrPicture
	}
	return out, nil
}

// readPart reads the records of a part.
func readPart(p *Part) (out []Record, failed bool) {
	defer func() { // of bytes that are none of a picture
		if r := recover(); r != nil {
			failed = true
		}
	}()
	in := &pictureReader{text: unsafe.String(unsafe.SliceData(p.Body), len(p.Body))}
	list := reflect.MakeSlice(reflect.SliceOf(descriptors[p.Type].record), p.Count, p.Count)
	out = make([]Record, p.Count)
	for i := range out {
		v := list.Index(i)
		codecs[p.Type].read(in, v)
		out[i] = v.Addr().Interface().(Record)
	}
	return out, in.at != len(in.text)
}

// pictureReader reads what codecs have written. It panics at the end of what there is.
type pictureReader struct {
	text string
	at   int
}

func (r *pictureReader) number() uint64 {
	n := uint64(0)
	for shift := uint(0); ; shift += 7 {
		b := r.text[r.at]
		r.at++
		if n |= uint64(b&0x7f) << shift; b < 0x80 {
			return n
		}
	}
}

func (r *pictureReader) take(n uint64) string {
	end := r.at + int(min(n, math.MaxInt32))
	out := r.text[r.at:end]
	r.at = end
	return out
}

func (r *pictureReader) signed() int64 {
	n := r.number()
	return int64(n>>1) ^ -int64(n&1)
}

// codec writes and reads values of a type.
type codec struct {
	write func(out []byte, v reflect.Value) []byte
	read  func(in *pictureReader, v reflect.Value)
}

var codecs = func() (out [typeCount]codec) {
	for t := range out {
		out[t] = codecOf(descriptors[t].record)
	}
	return out
}()

func codecOf(t reflect.Type) codec {
	switch t {
	case reflect.TypeFor[time.Time]():
		return codec{writeTime, readTime}
	case reflect.TypeFor[netip.Prefix]():
		return codec{func(out []byte, v reflect.Value) []byte {
			return appendString(out, v.Interface().(netip.Prefix).String())
		}, func(in *pictureReader, v reflect.Value) {
			v.Set(reflect.ValueOf(netip.MustParsePrefix(in.take(in.number()))))
		}}
	case reflect.TypeFor[map[string]Limit]():
		return codec{writeLimits, readLimits}
	}
	switch t.Kind() {
	case reflect.String:
		return codec{func(out []byte, v reflect.Value) []byte { return appendString(out, v.String()) },
			func(in *pictureReader, v reflect.Value) { v.SetString(in.take(in.number())) }}
	case reflect.Bool:
		return codec{func(out []byte, v reflect.Value) []byte { return binary.AppendUvarint(out, uint64(bit(v.Bool()))) },
			func(in *pictureReader, v reflect.Value) { v.SetBool(in.number() == 1) }}
	case reflect.Int, reflect.Int16, reflect.Int64:
		return codec{func(out []byte, v reflect.Value) []byte { return binary.AppendVarint(out, v.Int()) },
			func(in *pictureReader, v reflect.Value) { v.SetInt(in.signed()) }}
	case reflect.Uint8:
		return codec{func(out []byte, v reflect.Value) []byte { return binary.AppendUvarint(out, v.Uint()) },
			func(in *pictureReader, v reflect.Value) { v.SetUint(in.number()) }}
	case reflect.Pointer:
		inner := codecOf(t.Elem())
		return codec{func(out []byte, v reflect.Value) []byte { return inner.write(out, v.Elem()) },
			func(in *pictureReader, v reflect.Value) {
				v.Set(reflect.New(t.Elem()))
				inner.read(in, v.Elem())
			}}
	case reflect.Slice:
		return sliceCodec(t)
	case reflect.Struct:
		return structCodec(t)
	}
	panic("policy: no picture can be made of " + t.String())
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

func appendString(out []byte, s string) []byte {
	return append(binary.AppendUvarint(out, uint64(len(s))), s...)
}

// sliceCodec writes a list that is not nil.
func sliceCodec(t reflect.Type) codec {
	inner := codecOf(t.Elem())
	return codec{
		func(out []byte, v reflect.Value) []byte {
			out = binary.AppendUvarint(out, uint64(v.Len()))
			for i := range v.Len() {
				out = inner.write(out, v.Index(i))
			}
			return out
		},
		func(in *pictureReader, v reflect.Value) {
			n := int(in.number())
			if n > len(in.text)-in.at { // each takes a byte at least
				panic(ErrPicture)
			}
			v.Set(reflect.MakeSlice(t, n, n))
			for i := range n {
				inner.read(in, v.Index(i))
			}
		},
	}
}

// structCodec writes which fields there are, and those.
func structCodec(t reflect.Type) codec {
	fields := make([]codec, t.NumField())
	for i := range fields {
		fields[i] = codecOf(t.Field(i).Type)
	}
	return codec{
		func(out []byte, v reflect.Value) []byte {
			mask := uint64(0)
			for i := range fields {
				if !v.Field(i).IsZero() {
					mask |= 1 << i
				}
			}
			out = binary.AppendUvarint(out, mask)
			for i := range fields {
				if mask&(1<<i) != 0 {
					out = fields[i].write(out, v.Field(i))
				}
			}
			return out
		},
		func(in *pictureReader, v reflect.Value) {
			mask := in.number()
			for i := range fields {
				if mask&(1<<i) != 0 {
					fields[i].read(in, v.Field(i))
				}
			}
		},
	}
}

// Instants are in UTC and whole microseconds, as records keep them.
func writeTime(out []byte, v reflect.Value) []byte {
	t := v.Interface().(time.Time)
	return binary.AppendUvarint(binary.AppendVarint(out, t.Unix()), uint64(t.Nanosecond()))
}

func readTime(in *pictureReader, v reflect.Value) {
	seconds := in.signed()
	v.Set(reflect.ValueOf(time.Unix(seconds, int64(in.number())).UTC()))
}

func writeLimits(out []byte, v reflect.Value) []byte {
	limits := v.Interface().(map[string]Limit)
	out = binary.AppendUvarint(out, uint64(len(limits)))
	for name, l := range limits {
		out = appendString(out, name)
		out = binary.AppendUvarint(out, math.Float64bits(l.Number))
		out = binary.AppendUvarint(out, uint64(bit(l.Texts != nil)))
		out = binary.AppendUvarint(out, uint64(len(l.Texts)))
		for _, text := range l.Texts {
			out = appendString(out, text)
		}
	}
	return out
}

func readLimits(in *pictureReader, v reflect.Value) {
	out := map[string]Limit{}
	for range in.number() {
		name := in.take(in.number())
		l := Limit{Number: math.Float64frombits(in.number())}
		if in.number() == 1 {
			l.Texts = []string{}
		}
		for range in.number() {
			l.Texts = append(l.Texts, in.take(in.number()))
		}
		out[name] = l
	}
	v.Set(reflect.ValueOf(out))
}
