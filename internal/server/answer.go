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
		if tagListed(r.Request().Header.Values("If-None-Match"), h.Get("ETag")) {
			h.Del("Content-Type")
			r.Response().WriteHeader(http.StatusNotModified)
			return nil
		}
	}
	if len(data) < worthCompressing || !strings.Contains(r.Request().Header.Get("Accept-Encoding"), "gzip") {
		r.Response().WriteHeader(status)
		_, err := r.Response().Write(data)
		return err
	}
	if tag := h.Get("ETag"); tag != "" {
		h.Set("ETag", strings.TrimSuffix(tag, `"`)+zipped+`"`)
	}
	h.Set("Content-Encoding", "gzip")
	r.Response().WriteHeader(status)
	w := writers.Get().(*gzip.Writer)
	defer writers.Put(w)
	w.Reset(r.Response())
	if _, err := w.Write(data); err != nil {
		return err
	}
	return w.Close()
}

// pour answers a GET that has an entity tag with what write writes, as it comes: it may be larger than what one would hold. An answer
// that ends before its end is cut off, so that nobody takes it for the whole.
func (r *request) pour(media string, write func(io.Writer) error) error {
	h := r.Response().Header()
	h.Set("Content-Type", media)
	if tagListed(r.Request().Header.Values("If-None-Match"), h.Get("ETag")) {
		h.Del("Content-Type")
		r.Response().WriteHeader(http.StatusNotModified)
		return nil
	}
	to := io.Writer(&steadyWriter{Writer: r.Response(), control: http.NewResponseController(r.Response()), begun: time.Now()})
	finish := func() error { return nil }
	if strings.Contains(r.Request().Header.Get("Accept-Encoding"), "gzip") {
		h.Set("ETag", strings.TrimSuffix(h.Get("ETag"), `"`)+zipped+`"`)
		h.Set("Content-Encoding", "gzip")
		w := writers.Get().(*gzip.Writer)
		defer writers.Put(w)
		w.Reset(to)
		to, finish = w, w.Close
	}
	r.Response().WriteHeader(http.StatusOK)
	if r.Request().Method == http.MethodHead {
		return nil
	}
	if err := errors.Join(write(to), finish()); err != nil {
		r.server.log.Warn("an answer was cut off", "path", clip(r.Request().URL.Path), "error", err)
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
