package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"sentier/enforce"
	"sentier/internal/daemon"
)

const defaultGate = "127.0.0.1:7485"

func (a *app) gate() *cobra.Command {
	o := daemon.GateOptions{Version: a.Version}
	var full, broker, topic, brokerCA string
	cmd := &cobra.Command{
		Use: "gate --writer-key KEY --data DIR", Short: "Run a gate: a small enforcement point that decides for a site, also with the line cut", Args: cobra.NoArgs,
		Long: `Run a gate. It follows the policy of a service over HTTP (--service, with SENTIER_TOKEN of
a user with a mandate of enforcement), by the servers of its log (--nats), or has it from a
file that somebody brings (--snapshot, which “sentier snapshot” writes). It answers AuthZEN
evaluations on an address of its own to whoever sends its secret, which is made and shown
when it starts first.
With the line cut it goes on: denials, lockouts and ends hold always; what is granted holds
for as long as --lasts says after it was last known that nothing newer is there. It opens
nothing while its clock is not to be trusted, and takes nothing that was not signed.`,
		Example: `  sentier gate --service http://127.0.0.1:7480 --writer-key KEY --data /var/lib/sentier-gate`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.Log = a.logger(slog.LevelInfo)
			o.Enforce.Log = o.Log
			if o.Enforce.Token = a.env("SENTIER_TOKEN"); o.Enforce.Service != "" && o.Enforce.Token == "" {
				return errors.New("the service has to know the gate: set SENTIER_TOKEN to a token of a user with a mandate of enforcement")
			}
			if o.Enforce.NATS == "" && o.Enforce.Service == "" && o.Enforce.Snapshot == "" {
				o.Enforce.NATS = a.env(environment("nats"))
			}
			if o.GoOn = full == "go-on"; !o.GoOn && full != "wait" {
				return fmt.Errorf("--record-full: %q is not known: write wait or go-on", full)
			}
			if broker != "" {
				var err error
				if o.MQTT, err = daemon.ParseMQTT(broker, topic, a.env("SENTIER_MQTT_PASSWORD"), brokerCA); err != nil {
					return err
				}
			}
			secret, err := gateSecret(o.Enforce.Dir, &o)
			if err != nil {
				return err
			}
			g, err := daemon.OpenGate(cmd.Context(), o)
			if err != nil {
				return err
			}
			name, key := g.Machine()
			if secret != "" {
				fmt.Fprintf(a.Err, "Whoever asks this gate sends its secret, which is shown this once:\n\n  %s\n\n", secret)
			}
			fmt.Fprintf(a.Err, "This gate is %s. For what it records to come into the one record, admit it there:\n\n  sentier machine add %s --key %s\n\n", name, name, key)
			fmt.Fprintf(a.Err, "The gate answers at %s, from revision %d\n", g.Address(), g.Standing().Revision)
			return g.Run(cmd.Context())
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.Enforce.Service, "service", "", "address of the service that is followed over HTTP")
	f.StringVar(&o.Enforce.NATS, "nats", "", "servers of the log that is followed, with commas between (default: SENTIER_NATS)")
	f.StringVar(&o.Enforce.Credentials, "nats-credentials", "", "file of the credentials by which those servers know this gate")
	f.StringVar(&o.Enforce.Snapshot, "snapshot", "", "file of a snapshot that somebody has brought")
	f.StringSliceVar(&o.Enforce.Keys, "writer-key", nil, "public key of the machine that writes, as “sentier audit key” shows it there; several where several may write")
	required(cmd, &o.Enforce.Dir, "data", "folder of the gate")
	f.StringVar(&o.Listen, "listen", defaultGate, "address to answer at")
	f.StringVar(&o.Machine, "machine", "", "name of this gate among the machines (default: that of the host)")
	f.DurationVar(&o.Enforce.Lasts, "lasts", enforce.DefaultLasts, "for how long what is granted holds after it was last known that nothing newer is there")
	f.Uint64Var(&o.Most, "record-most", 1_000_000, "decisions that wait at most to be handed over")
	f.StringVar(&broker, "mqtt", "", "broker of MQTT 5 by which the gate is asked as well: mqtts://user@broker.example:8883; the password stands in SENTIER_MQTT_PASSWORD")
	f.StringVar(&topic, "mqtt-topic", "sentier", "topic below which it is asked: at TOPIC/evaluation, with a response topic below TOPIC/response/")
	f.StringVar(&brokerCA, "mqtt-ca", "", "file of the authorities that vouch for the broker, PEM (default: those of the machine)")
	f.StringVar(&full, "record-full", "wait", "with that many: wait (questions are not answered) or go-on (they are, without a record)")
	return cmd
}

// gateSecret finds the hash of a gate's secret in its folder, or makes the secret, which is told once.
func gateSecret(dir string, o *daemon.GateOptions) (secret string, err error) {
	path := filepath.Join(dir, "gate.secret")
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		secret, hash := daemon.NewSecret("sentier_gate_")
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return "", err
		}
		o.Hash = [sha256.Size]byte(hash)
		return secret, os.WriteFile(path, []byte(hex.EncodeToString(hash)+"\n"), 0o600)
	}
	if err != nil {
		return "", err
	}
	hash, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(hash) != sha256.Size {
		return "", fmt.Errorf("%s is not the hash of a secret: remove it, and another is made", path)
	}
	o.Hash = [sha256.Size]byte(hash)
	return "", nil
}

func (a *app) snapshot() *cobra.Command {
	return &cobra.Command{
		Use: "snapshot FILE", Short: "Write the policy as it is, signed, to a file for a gate without a line", Args: exactly("FILE"),
		Long:    "Write the policy as it is, signed by the machine that writes: for a gate that nothing reaches, to be carried there.\nIt says when it was taken; the gate opens nothing by it once that is longer ago than its --lasts.",
		Example: "  sentier snapshot larkmere.snapshot",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			err = c.Do(cmd.Context(), "GET", "/api/v1/snapshot", nil, nil, file)
			if err = errors.Join(err, file.Close()); err != nil {
				return errors.Join(err, os.Remove(args[0]))
			}
			fmt.Fprintf(a.Err, "Written: “sentier gate --snapshot %s” decides by it.\n", args[0])
			return nil
		},
	}
}
