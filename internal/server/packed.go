package server

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"net/http"
	"strings"
	"time"
)

// packed is what is served to anybody as it is: compressed once, so that asking for it again and again costs no more than sending it.
type packed struct {
	plain, small []byte // small is nil where compressing it is not worth it
	tag          string
}

func pack(data []byte) *packed {
	sum := sha256.Sum256(data)
	p := &packed{plain: data, tag: `"` + hex.EncodeToString(sum[:12])}
	if len(data) < worthCompressing {
		return p
	}
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		if _, err = w.Write(data); err == nil {
			err = w.Close()
		}
	}
	if err != nil {
		panic(err) // the level is one there is, and a buffer takes all
	}
	p.small = out.Bytes()
	return p
}

// serve answers a request with what is packed, of a media type.
func (p *packed) serve(w http.ResponseWriter, r *http.Request, media string) {
	h := w.Header()
	varies(h)
	h.Set("Content-Type", media)
	data, tag := p.plain, p.tag+`"`
	if p.small != nil && acceptsGzip(r) {
		h.Set("Content-Encoding", "gzip")
		data, tag = p.small, p.tag+zipped+`"`
	}
	if tagListed(r.Header.Values("If-None-Match"), p.tag+`"`) {
		r = r.Clone(r.Context()) // whichever way it was sent before, the caller has it
		r.Header.Set("If-None-Match", tag)
	}
	h.Set("ETag", tag)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// varies says to caches that what is answered is another to whoever reads no gzip.
func varies(h http.Header) {
	if h.Get("Vary") == "" {
		h.Set("Vary", "Accept-Encoding")
	}
}

func acceptsGzip(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept-Encoding"), "gzip")
}

// packedFile is the ending of a file that was compressed when the console was built.
const packedFile = ".gz"

// servePacked answers with a file of the console as it was compressed at the build. It tells whether there is such a file, for whoever reads that.
func servePacked(w http.ResponseWriter, r *http.Request, files fs.FS, name, media string) bool {
	varies(w.Header())
	if !acceptsGzip(r) {
		return false
	}
	info, err := fs.Stat(files, name+packedFile)
	if err != nil || info.IsDir() {
		return false
	}
	w.Header().Set("Content-Type", media)
	w.Header().Set("Content-Encoding", "gzip")
	http.ServeFileFS(w, r, files, name+packedFile)
	return true
}
