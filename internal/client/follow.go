package client

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// againAfter is how long after the end of a stream it is asked for again, where the service is still there.
const againAfter = time.Second

// longestEvent bounds an event, in bytes.
const longestEvent = 16 << 20

// Follow reads the server-sent events of a path, and calls each with the data of every one, until ctx ends or each gives an error. A stream
// that ends is resumed after the last event, so that none is missed. after is the id of the event before the first; empty: from now on.
func (c *Client) Follow(ctx context.Context, path string, query url.Values, after string, each func(data []byte) error) error {
	for {
		req, err := c.request(ctx, "GET", path, query, nil)
		if err != nil {
			return err
		}
		if after != "" {
			req.Header.Set("Last-Event-ID", after)
		}
		after, err = c.stream(req, after, each)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(againAfter):
		}
	}
}

// stream reads one stream to its end, and gives the id of the last event.
func (c *Client) stream(req *http.Request, after string, each func(data []byte) error) (string, error) {
	httpClient := c.HTTP
	if httpClient == nil {
		httpClient = &http.Client{} // a stream lasts
	}
	resp, err := httpClient.Do(req)
	if err != nil {
		return after, fmt.Errorf("no service answers at %s: start one with “sentier serve”, or name another with --server (%w)", c.Base, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		data, err := io.ReadAll(io.LimitReader(resp.Body, longestEvent))
		return after, errors.Join(err, read(resp, data, nil))
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, longestEvent)
	id := after
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			id = value
		case "data":
			if err := each([]byte(value)); err != nil {
				return after, err
			}
		case "": // the event is whole
			after = id
		}
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return after, err
	}
	return after, nil // however it ended, it is resumed
}
