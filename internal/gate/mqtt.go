package gate

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"

	"sentier/internal/policy"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// MQTT says how a gate is asked by MQTT 5: by request and response (section 4.10 of the standard).
type MQTT struct {
	Broker   *url.URL // mqtt:// or mqtts://
	User     string
	Password string
	Topic    string // requests come to TOPIC/evaluation, and are answered below TOPIC/response/
	TLS      *tls.Config
	Name     string // of the gate
}

// Times of MQTT.
const (
	mqttAlive = 20 // seconds
	mqttAgain = 2 * time.Second
	mqttTime  = 5 * time.Second
)

// CheckTopic tells whether a gate can be asked at a topic.
func CheckTopic(topic string) error {
	if topic == "" || strings.ContainsAny(topic, "+#\x00") || strings.HasPrefix(topic, "$") || strings.HasSuffix(topic, "/") {
		return fmt.Errorf("%q is no topic that a gate can be asked at: no wildcards, nothing that begins with $ or ends with /", topic)
	}
	return nil
}

// ServeMQTT answers requests that come by MQTT until ctx ends. A request carries the gate's secret in the user property “authorization”, as in HTTP, and says where its
// answer goes, and by which correlation data it is known.
func (g *Gate) ServeMQTT(ctx context.Context, m MQTT) error {
	line, err := autopaho.NewConnection(ctx, autopaho.ClientConfig{
		ServerUrls: []*url.URL{m.Broker}, TlsCfg: m.TLS, KeepAlive: mqttAlive, CleanStartOnInitialConnection: true, ConnectTimeout: mqttTime,
		ReconnectBackoff: func(int) time.Duration { return mqttAgain }, ConnectUsername: m.User, ConnectPassword: []byte(m.Password),
		OnConnectionUp: func(line *autopaho.ConnectionManager, _ *paho.Connack) {
			ctx, cancel := context.WithTimeout(ctx, mqttTime)
			defer cancel()
			_, err := line.Subscribe(ctx, &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: m.Topic + "/evaluation", QoS: 1}}})
			if err != nil {
				g.Log.Error("the gate cannot be asked by MQTT", "topic", m.Topic, "error", err)
			}
		},
		OnConnectError: func(err error) { g.Log.Warn("the broker of MQTT does not answer", "error", err) },
		ClientConfig: paho.ClientConfig{
			ClientID: "sentier-gate-" + m.Name,
			OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(in paho.PublishReceived) (bool, error) {
				g.answerMQTT(ctx, in.Client, m.Topic, in.Packet)
				return true, nil
			}},
		},
	})
	if err != nil {
		return fmt.Errorf("ask by MQTT at %s: %w", m.Broker.Redacted(), err)
	}
	<-line.Done()
	return nil
}

// answerMQTT answers one request beside others, few at once.
func (g *Gate) answerMQTT(ctx context.Context, line *paho.Client, topic string, in *paho.Publish) {
	p := in.Properties
	if p == nil || !strings.HasPrefix(p.ResponseTopic, topic+"/response/") || strings.ContainsAny(p.ResponseTopic, "+#") {
		g.Log.Warn("a request by MQTT says of no place for its answer", "wants", topic+"/response/…")
		return
	}
	select {
	case g.room <- struct{}{}:
	default:
		g.Log.Warn("a request by MQTT is not answered: too many ask at once")
		return
	}
	go func() {
		defer func() { <-g.room }()
		status, body := g.evaluateMQTT(in)
		ctx, cancel := context.WithTimeout(ctx, mqttTime)
		defer cancel()
		_, err := line.Publish(ctx, &paho.Publish{
			Topic: p.ResponseTopic, QoS: 1, Payload: body,
			Properties: &paho.PublishProperties{CorrelationData: p.CorrelationData, ContentType: "application/json", User: paho.UserProperties{{Key: "status", Value: fmt.Sprint(status)}}},
		})
		if err != nil && ctx.Err() == nil {
			g.Log.Warn("an answer by MQTT was not taken", "error", err)
		}
	}()
}

// evaluateMQTT is the answer to a request, with the status that it would have over HTTP.
func (g *Gate) evaluateMQTT(in *paho.Publish) (status int, body []byte) {
	out, err := g.evaluated(in)
	if err == nil {
		if body, err = json.Marshal(out); err == nil {
			return 200, body
		}
	}
	status, detail := g.told("MQTT", err)
	body, err = json.Marshal(map[string]any{"status": status, "detail": policy.Clip(detail)})
	if err != nil {
		return 500, nil // texts can be written
	}
	return status, body
}

func (g *Gate) evaluated(in *paho.Publish) (*wire.Decision, error) {
	if !g.knows(in.Properties.User.Get("authorization")) {
		return nil, &fault{401, "send the secret of this gate, as the user property “authorization: Bearer …”"}
	}
	if len(in.Payload) > mostBody {
		return nil, &fault{413, fmt.Sprintf("the request is longer than %d bytes", mostBody)}
	}
	q, err := translate.ReadEvaluation(in.Payload, g.Clock())
	if err != nil {
		return nil, err
	}
	return g.decide("mqtt", &q)
}
