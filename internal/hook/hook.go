// Package hook tells others what has happened: as an event of CloudEvents 1.0, signed as Standard Webhooks has it.
package hook

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"sentier/internal/outbound"
	"sentier/internal/policy"
)

// Event is something that has happened.
type Event struct {
	ID      string    // the same whenever it is told again
	Type    string    // what has happened: sentier.change
	Source  string    // where
	Subject string    // whom or what it is about; empty: nothing by itself
	Time    time.Time // when
	Data    any
}

// body is the event as it is sent: CloudEvents 1.0, structured, in JSON.
func (e *Event) body() ([]byte, error) {
	return json.Marshal(struct {
		SpecVersion string `json:"specversion"`
		ID          string `json:"id"`
		Source      string `json:"source"`
		Type        string `json:"type"`
		Subject     string `json:"subject,omitempty"`
		Time        string `json:"time"`
		ContentType string `json:"datacontenttype"`
		Data        any    `json:"data"`
	}{"1.0", e.ID, e.Source, e.Type, e.Subject, e.Time.UTC().Format(time.RFC3339Nano), "application/json", e.Data})
}

// Bounds of telling.
const (
	sendTime    = 10 * time.Second
	leastSecret = 24      // bytes
	mostAnswer  = 4 << 10 // bytes; what is said beside the status is of no concern
	firstPause  = 5 * time.Second
	mostPause   = time.Hour
)

// Pause is how long one waits after so many tries that failed: twice as long each time.
func Pause(tries int) time.Duration {
	if tries > 12 {
		return mostPause
	}
	return min(firstPause<<max(tries-1, 0), mostPause)
}

var client = outbound.Client("", sendTime, mostAnswer)

// Send tells an event once, signed with a secret. The status is what was answered; 0: nothing. The error is nil where it was taken.
func Send(ctx context.Context, address, secret string, e *Event) (status int, err error) {
	if len(strings.TrimPrefix(secret, "whsec_")) < leastSecret {
		return 0, policy.Say("the secret is shorter than %d letters", leastSecret)
	}
	sign, err := standardwebhooks.NewWebhookRaw([]byte(secret))
	if strings.HasPrefix(secret, "whsec_") {
		sign, err = standardwebhooks.NewWebhook(secret)
	}
	if err != nil {
		return 0, policy.Say("the secret cannot be read: write whsec_ and the key in base64")
	}
	body, err := e.body()
	if err != nil {
		return 0, fmt.Errorf("write an event: %w", err)
	}
	now := time.Now() // by whose clock receivers judge whether it is told again by somebody else
	signature, err := sign.Sign(e.ID, now, body)
	if err != nil {
		return 0, fmt.Errorf("sign an event: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, policy.Say("%q is no address: write https://host/path", address)
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set("webhook-id", e.ID)
	req.Header.Set("webhook-timestamp", strconv.FormatInt(now.Unix(), 10))
	req.Header.Set("webhook-signature", signature)
	resp, err := client.Do(req)
	if err != nil {
		return 0, policy.Say("nobody answers there: %s", outbound.Reason(err))
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body) // so that the connection can be used again
	if resp.StatusCode >= 200 && resp.StatusCode < 300 {
		return resp.StatusCode, nil
	}
	return resp.StatusCode, policy.Say("it was answered with %d", resp.StatusCode)
}
