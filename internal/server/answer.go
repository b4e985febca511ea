package server

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

// worthCompressing is from how many bytes on an answer is sent compressed to whoever reads that.
const worthCompressing = 1400

var writers = sync.Pool{New: func() any {
	w, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
	if err != nil {
		panic(err) // the level is one there is
	}
	return w
}}

// zipped marks the entity tag of an answer that is sent compressed: other bytes have another tag.
const zipped = ";gzip"

// JSON answers with a value. What is read by GET carries an entity tag, its own or one of its bytes.
func (r *request) JSON(status int, v any) error {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	return r.send(status, echo.MIMEApplicationJSON, out.Bytes())
}

// send answers with bytes: not at all where the caller has them already, and compressed where that is worth it.
func (r *request) send(status int, media string, data []byte) error {
	r.done()
	h := r.Response().Header()
	h.Set("Content-Type", media)
	read := r.Request().Method == http.MethodGet || r.Request().Method == http.MethodHead
	if read && status == http.StatusOK {
		if h.Get("ETag") == "" {
			sum := sha256.Sum256(data)
			h.Set("ETag", `"`+hex.EncodeToString(sum[:12])+`"`)
		}
		if r.unchanged() {
			return nil
		}
	}
	to, finish := io.Writer(r.Response()), func() error { return nil }
	if len(data) >= worthCompressing {
		to, finish = r.zip(to)
	}
	r.Response().WriteHeader(status)
	_, err := to.Write(data)
	return errors.Join(err, finish())
}

// unchanged answers with 304 where the caller has what the entity tag of the answer names.
func (r *request) unchanged() bool {
	h := r.Response().Header()
	if !tagListed(r.Request().Header.Values("If-None-Match"), h.Get("ETag")) {
		return false
	}
	h.Del("Content-Type")
	r.Response().WriteHeader(http.StatusNotModified)
	return true
}

// zip compresses what is written to an answer for whoever reads that, and says so in its headers. finish ends the answer.
func (r *request) zip(to io.Writer) (out io.Writer, finish func() error) {
	if !acceptsGzip(r.Request()) {
		return to, func() error { return nil }
	}
	h := r.Response().Header()
	if tag := h.Get("ETag"); tag != "" {
		h.Set("ETag", strings.TrimSuffix(tag, `"`)+zipped+`"`)
	}
	h.Set("Content-Encoding", "gzip")
	w := writers.Get().(*gzip.Writer)
	w.Reset(to)
	return w, func() error {
		defer writers.Put(w)
		return w.Close()
	}
}

// pour answers a GET that has an entity tag with what write writes, as it comes: it may be larger than what one would hold. An answer
// that ends before its end is cut off, so that nobody takes it for the whole.
func (r *request) pour(media string, write func(io.Writer) error) error {
	r.Response().Header().Set("Content-Type", media)
	if r.unchanged() {
		return nil
	}
	to, finish := r.zip(&steadyWriter{Writer: r.Response(), control: http.NewResponseController(r.Response()), begun: time.Now()})
	r.Response().WriteHeader(http.StatusOK)
	if r.Request().Method == http.MethodHead {
		return nil
	}
	if err := errors.Join(write(to), finish()); err != nil {
		r.server.log.Warn("an answer was cut off", "path", loggedPath(r.Request()), "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

// tags reads a list of entity tags, as If-Match and If-None-Match hold them, without what only says how an answer was sent.
func tags(lines []string) []string {
	var out []string
	for _, line := range lines {
		for _, tag := range strings.Split(line, ",") {
			tag = strings.TrimPrefix(strings.TrimSpace(tag), "W/")
			if tag != "" {
				out = append(out, strings.ReplaceAll(tag, zipped+`"`, `"`))
			}
		}
	}
	return out
}

func tagListed(lines []string, tag string) bool {
	for _, t := range tags(lines) {
		if t == tag || t == "*" {
			return true
		}
	}
	return false
}
