package acceptance

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"
	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"

	"sentier/enforce"
	"sentier/internal/daemon"
	"sentier/internal/wire"
)

// TestAGateIsAskedByMQTT by request and response, through a broker that nobody here wrote; it answers nobody without its secret, and nowhere but where answers go.
func TestAGateIsAskedByMQTT(t *testing.T) {
	t.Parallel()
	broker := mqtt.New(&mqtt.Options{Logger: slog.New(slog.DiscardHandler)})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err == nil {
		err = broker.AddHook(new(auth.AllowHook), nil)
	}
	if err == nil {
		err = broker.AddListener(listeners.NewNet("tcp", listener))
	}
	if err == nil {
		err = broker.Serve()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer broker.Close()
	at := "mqtt://" + listener.Addr().String()

	w := start(t, nil)
	give(t, w)
	if status, _, text := w.ask("PATCH", "/api/v1/devices/estuary-gate-1", w.token, `{"lockout":null}`); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	secret, hash := daemon.NewSecret("sentier_gate_")
	asked, err := daemon.ParseMQTT(at, "larkmere/estuary", "", "")
	if err != nil {
		t.Fatal(err)
	}
	o := daemon.GateOptions{
		Enforce: enforce.Options{Service: w.url, Token: w.tokenFor("gateway-bridges"), Keys: []string{base64.StdEncoding.EncodeToString(w.writerKey())}, Dir: t.TempDir(), Clock: daemon.ClockFrom(testNow(t))},
		Listen:  "127.0.0.1:0", Machine: "estuary", Version: "test", Most: 1000, MQTT: asked, Log: slog.New(slog.DiscardHandler),
	}
	copy(o.Hash[:], hash)
	ctx, cancel := context.WithCancel(context.Background())
	g, err := daemon.OpenGate(ctx, o)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- g.Run(ctx) }()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the gate ends with %v", err)
		}
	}()

	answers := make(chan *paho.Publish, 10)
	brokerAt, err := url.Parse(at)
	if err != nil {
		t.Fatal(err)
	}
	panel, err := autopaho.NewConnection(t.Context(), autopaho.ClientConfig{
		ServerUrls: []*url.URL{brokerAt}, KeepAlive: 20, CleanStartOnInitialConnection: true,
		ClientConfig: paho.ClientConfig{ClientID: "panel", OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(in paho.PublishReceived) (bool, error) {
			answers <- in.Packet
			return true, nil
		}}},
	})
	if err == nil {
		err = panel.AwaitConnection(t.Context())
	}
	if err == nil {
		_, err = panel.Subscribe(t.Context(), &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: "larkmere/estuary/response/panel", QoS: 1}, {Topic: "elsewhere/#", QoS: 1}}})
	}
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	ask := func(secret, to, body string, waits time.Duration) (status string, d wire.Decision) {
		t.Helper()
		count++
		known := fmt.Sprint("ask ", count)
		_, err := panel.Publish(t.Context(), &paho.Publish{Topic: "larkmere/estuary/evaluation", QoS: 1, Payload: []byte(body), Properties: &paho.PublishProperties{
			ResponseTopic: to, CorrelationData: []byte(known), User: paho.UserProperties{{Key: "authorization", Value: "Bearer " + secret}},
		}})
		if err != nil {
			t.Fatal(err)
		}
		for end := time.After(waits); ; {
			select {
			case in := <-answers:
				if string(in.Properties.CorrelationData) != known {
					continue // to what was asked before, and not waited for any more
				}
				if err := json.Unmarshal(in.Payload, &d); err != nil {
					t.Fatal(err)
				}
				return in.Properties.User.Get("status"), d
			case <-end:
				return "", d
			}
		}
	}
	const here = "larkmere/estuary/response/panel"
	control := `{"subject":{"type":"user","id":"keeper.at.hand"},"action":{"name":"control"},"resource":{"type":"device","id":"estuary-gate-1"}}`
	w.soon("the gate is asked by MQTT", func() bool {
		status, d := ask(secret, here, control, time.Second)
		return status == "200" && d.Decision
	})
	if status, d := ask("made up", here, control, 5*time.Second); status != "401" || d.Decision {
		t.Errorf("with a made-up secret: %s %+v", status, d)
	}
	for name, body := range map[string]string{"nothing": "", "half": control[:50], "another type": strings.Replace(control, "user", "robot", 1)} {
		if status, _ := ask(secret, here, body, 5*time.Second); status != "400" {
			t.Errorf("asked %s: %s", name, status)
		}
	}
	for _, to := range []string{"", "elsewhere/x", "larkmere/estuary/evaluation"} {
		if status, _ := ask(secret, to, control, 300*time.Millisecond); status != "" {
			t.Errorf("it answers at %q: %s", to, status)
		}
	}
	for _, wrong := range []string{"http://127.0.0.1", "mqtt://broker.example", "mqtts://"} {
		if _, err := daemon.ParseMQTT(wrong, "larkmere", "", ""); err == nil {
			t.Errorf("%q is taken for a broker", wrong)
		}
	}
	if _, err := daemon.ParseMQTT(at, "larkmere/#", "", ""); err == nil {
		t.Error("a wildcard is taken for a topic")
	}
}
