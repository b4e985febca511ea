// Package client speaks to the service over its HTTP interface.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"sentier/internal/wire"
)

// Client asks one service with one credential. The zero value asks nobody: set Base.
type Client struct {
	Base  string // such as http://127.0.0.1:7480
	Token string
	HTTP  *http.Client // nil: one with a time limit of its own

	Language string // in which the service says why; empty: English

	match, key string
}

// If gives a client whose requests are refused where the policy has gone on from a revision.
func (c *Client) If(revision uint64) *Client {
	same := *c
	same.match = fmt.Sprintf("%q", fmt.Sprint(revision))
	return &same
}

// Keyed gives a client whose requests carry an Idempotency-Key.
func (c *Client) Keyed(key string) *Client {
	same := *c
	same.key = key
	return &same
}

// Error is a problem that the service answered with.
type Error struct{ wire.Problem }

func (e *Error) Error() string {
	if len(e.Faults) == 0 {
		return e.Detail
	}
	lines := []string{e.Detail + ":"}
	for _, f := range e.Faults {
		place := f.Path
		if f.Line > 0 {
			place = strings.TrimSuffix(fmt.Sprintf("%d:%d %s", f.Line, f.Column, f.Path), " ")
		}
		lines = append(lines, "  "+place+": "+f.Problem)
	}
	return strings.Join(lines, "\n")
}

const timeLimit = 5 * time.Minute

// Do sends a request. in is sent as JSON, or as it is where it is a []byte; the answer is read into out,
// or kept as it is where out is a *[]byte. The error is an [*Error] where the service refused.
func (c *Client) Do(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	switch v := in.(type) {
	case nil:
	case []byte:
		body = bytes.NewReader(v)
	default:
		data, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(data)
	}
	target := strings.TrimSuffix(c.Base, "/") + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return fmt.Errorf("ask %s: %w", c.Base, err)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.match != "" {
		req.Header.Set("If-Match", c.match)
	}
	if c.key != "" {
		req.Header.Set("Idempotency-Key", c.key)
	}
	if c.Language != "" {
		req.Header.Set("Accept-Language", c.Language)
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	httpClient := c.HTTP
	if httpClient == nil {
		httpClient = &http.Client{Timeout: timeLimit}
	}
	resp, err := httpClient.Do(req)
	if err != nil {
		return fmt.Errorf("no service answers at %s: start one with “sentier serve”, or name another with --server (%w)", c.Base, err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		return fmt.Errorf("the answer of %s broke off: %w", c.Base, err)
	}
	return read(resp, data, out)
}

func read(resp *http.Response, data []byte, out any) error {
	if resp.StatusCode >= 300 {
		p := wire.Problem{Status: resp.StatusCode, Detail: resp.Status}
		if strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") {
			if err := json.Unmarshal(data, &p); err != nil {
				return fmt.Errorf("the service answered %s with a problem that cannot be read: %w", resp.Status, err)
			}
		}
		return &Error{p}
	}
	switch v := out.(type) {
	case nil:
		return nil
	case *[]byte:
		*v = data
		return nil
	}
	if err := json.Unmarshal(data, out); err != nil {
		return fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return nil
}
