package bus

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"sentier/internal/replica"
)

// Times and bounds of following over HTTP.
const (
	quietTime = 45 * time.Second // in which a stream must say something
	mostEvent = 64 << 20         // bytes of an event
)

// HTTP follows the log over HTTP.
type HTTP struct {
	Base   string // of the service
	Token  string // of an enforcement point
	Client *http.Client

	mu    sync.Mutex
	heard func(text []byte)
}

func (h *HTTP) get(ctx context.Context, path string, query url.Values, headers ...string) (*http.Response, error) {
	at := strings.TrimSuffix(h.Base, "/") + path
	if len(query) > 0 {
		at += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+h.Token)
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := h.Client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("ask the machine that writes: %w", err)
	}
	switch resp.StatusCode {
	case http.StatusOK:
		return resp, nil
	case http.StatusNotFound:
		return nil, errors.Join(replica.ErrNone, resp.Body.Close())
	case http.StatusGone:
		return nil, errors.Join(replica.ErrGone, resp.Body.Close())
	}
	return nil, errors.Join(fmt.Errorf("the machine that writes answers %s", resp.Status), resp.Body.Close())
}

// Post sends something, JSON, to the machine that writes.
func (h *HTTP) Post(ctx context.Context, path string, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(h.Base, "/")+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+h.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := h.Client.Do(req)
	if err != nil {
		return fmt.Errorf("tell the machine that writes: %w", err)
	}
	if resp.StatusCode >= 300 {
		err = fmt.Errorf("the machine that writes answers %s", resp.Status)
	}
	return errors.Join(err, resp.Body.Close())
}

// Follow gives entries as they come; see [replica.Feed].
func (h *HTTP) Follow(ctx context.Context, after uint64, visit func(text []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	resp, err := h.get(ctx, "/api/v1/log", url.Values{"after": {strconv.FormatUint(after, 10)}}, "Accept", "text/event-stream")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	quiet := time.AfterFunc(quietTime, cancel) // a line that was cut says nothing
	defer quiet.Stop()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, mostEvent)
	event := ""
	for lines.Scan() {
		quiet.Reset(quietTime)
		line := lines.Text()
		if name, ok := strings.CutPrefix(line, "event: "); ok {
			event = name
		}
		data, ok := strings.CutPrefix(line, "data: ")
		switch {
		case !ok:
		case event == "beat":
			h.beat([]byte(data))
		case event == "entry":
			if err := visit([]byte(data)); err != nil {
				return err
			}
		case event == "gone":
			return replica.ErrGone
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("follow the machine that writes: %w", err)
	}
	return nil // the stream has ended, and is asked for again
}

func (h *HTTP) beat(text []byte) {
	h.mu.Lock()
	heard := h.heard
	h.mu.Unlock()
	if heard != nil {
		heard(text)
	}
}

// Beats gives the beats that come; see [replica.Feed].
func (h *HTTP) Beats(ctx context.Context, heard func(text []byte)) error {
	h.mu.Lock()
	h.heard = heard
	h.mu.Unlock()
	<-ctx.Done()
	return nil
}

// The snapshots that can be had: those of now.
const (
	pictureOverHTTP = "snapshot-"
	rowsOverHTTP    = "rows-"
)

// Objects lists the snapshot that can be had; see [replica.Feed].
func (h *HTTP) Objects(_ context.Context, prefix string) ([]string, error) {
	if prefix == pictureOverHTTP || prefix == rowsOverHTTP {
		return []string{prefix}, nil
	}
	return nil, nil
}

// Get gives an object; see [replica.Feed].
func (h *HTTP) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	path, query := "/api/v1/snapshot", url.Values{}
	switch name {
	case pictureOverHTTP:
		query.Set("picture", strconv.FormatUint(replica.PictureForm, 10))
	case rowsOverHTTP:
	default:
		path = "/api/v1/log/" + url.PathEscape(name)
	}
	resp, err := h.get(ctx, path, query)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}
