// Package client speaks to the service over its HTTP interface.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
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
	AsOf     string // a revision or a time: questions are asked of the policy as it was; empty: as it is

	match, key string
}

// Body is what is sent as it is, with its media type.
type Body struct {
	Type string
	Data []byte
}

// IfTag gives a client whose requests are refused where what they change has another entity tag; an empty one is any.
func (c *Client) IfTag(tag string) *Client {
	same := *c
	same.match = tag
	return &same
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
	lines := []string{strings.TrimSuffix(e.Detail, ".") + ":"}
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

// Do sends a request. in is sent as JSON, or as it is where it is a [Body]; the answer is read into out, or kept as it is where
// out is a *[]byte, or copied where it is an [io.Writer]. The error is an [*Error] where the service refused.
func (c *Client) Do(ctx context.Context, method, path string, query url.Values, in, out any) error {
	_, err := c.DoTagged(ctx, method, path, query, in, out)
	return err
}

// DoTagged is [Client.Do], and gives the entity tag of the answer.
func (c *Client) DoTagged(ctx context.Context, method, path string, query url.Values, in, out any) (tag string, err error) {
	req, err := c.request(ctx, method, path, query, in)
	if err != nil {
		return "", err
	}
	httpClient := c.HTTP
	if httpClient == nil {
		httpClient = &http.Client{Timeout: timeLimit}
	}
	resp, err := httpClient.Do(req)
	if err != nil {
		return "", fmt.Errorf("no service answers at %s: start one with “sentier serve”, or name another with --server (%w)", c.Base, err)
	}
	defer resp.Body.Close()
	if to, ok := out.(io.Writer); ok && resp.StatusCode < 300 {
		if _, err := io.Copy(to, resp.Body); err != nil {
			return "", fmt.Errorf("the answer of %s broke off: %w", c.Base, err)
		}
		return resp.Header.Get("ETag"), nil
	}
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		return "", fmt.Errorf("the answer of %s broke off: %w", c.Base, err)
	}
	return resp.Header.Get("ETag"), read(resp, data, out)
}

func (c *Client) request(ctx context.Context, method, path string, query url.Values, in any) (*http.Request, error) {
	var body io.Reader
	media := "application/json"
	switch v := in.(type) {
	case nil:
	case Body:
		media, body = v.Type, bytes.NewReader(v.Data)
	default:
		data, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(data)
	}
	target := strings.TrimSuffix(c.Base, "/") + path
	if c.AsOf != "" {
		past := url.Values{"as_of": {c.AsOf}}
		maps.Copy(past, query)
		query = past
	}
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, fmt.Errorf("ask %s: %w", c.Base, err)
	}
	for name, value := range map[string]string{"If-Match": c.match, "Idempotency-Key": c.key, "Accept-Language": c.Language} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	if body != nil {
		req.Header.Set("Content-Type", media)
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	return req, nil
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
