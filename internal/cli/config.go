package cli

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"sentier/internal/daemon"
	"sentier/internal/mail"
	"sentier/internal/policy"
)

// serving is how a service is run: by flags, by the environment, by a file, in that order, and else as usual.
type serving struct {
	Program
	follows bool // it is of a machine that follows another
	file    string
	flags   *pflag.FlagSet // of what can be set
}

// flags gives a command the flags that say how a service is run.
func (v *serving) register(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&v.file, "config", v.env("SENTIER_CONFIG"), "YAML file with the same names as these flags (default: SENTIER_CONFIG)")
	before := map[string]bool{}
	f.VisitAll(func(f *pflag.Flag) { before[f.Name] = true })
	f.String("data", "", "folder of the database (required)")
	f.String("listen", defaultListen, "address to answer at")
	f.String("tls-cert", "", "file of a TLS certificate, PEM")
	f.String("tls-key", "", "file of its key, PEM")
	f.String("public-url", "", "address by which clients reach the service, with the path below which it lies, such as https://sentier.example/larkmere (default: where it listens)")
	f.StringSlice("trusted-proxy", nil, "networks of proxies whose word on where a request came from counts")
	v.line(f)
	f.StringSlice("writer-key", nil, v.writerKeys())
	f.String("writer-ca", "", "file of the authorities that vouch for the machine that writes, PEM (default: those of the machine)")
	if v.follows {
		f.Uint64("record-most", 1_000_000, "entries of the record that wait at most to be handed over")
		f.String("record-full", "wait", "with that many: wait (questions are not answered) or go-on (they are, without a record)")
	} else {
		v.keeping(f)
	}
	v.flags = pflag.NewFlagSet("", pflag.ContinueOnError)
	f.VisitAll(func(f *pflag.Flag) {
		if !before[f.Name] {
			v.flags.AddFlag(f)
		}
	})
}

// writerKeys says of which machines the keys are.
func (v *serving) writerKeys() string {
	if v.follows {
		return "public key of the machine that writes, as “sentier audit key” shows it there; several where several may write (required)"
	}
	return "public key of another machine that may write in the place of this one, as it prints it when it starts; several where there are several"
}

// keeping gives the flags of a machine that keeps everything.
func (v *serving) keeping(f *pflag.FlagSet) {
	f.String("audit-syslog", "", "host:port of a syslog server that the record is sent to, by RFC 5424 over TLS (RFC 5425)")
	f.String("audit-syslog-ca", "", "file of the authorities that vouch for that server, PEM (default: those of the machine)")
	f.Bool("audit-stdout", false, "write the record to standard output as well, as lines of JSON")
	f.String("checkpoints", "", "file, best on another disk, that the hourly checkpoints of the record are appended to as well")
	f.String("smtp", "", "server of mail that sends links and tells of requests: smtp://user@mail.example:587, smtps://…, or smtp+plain://… on the same machine; the password stands in SENTIER_SMTP_PASSWORD")
	f.String("mail-from", "", "address that letters come from")
	f.String("sealing-key", "", "file of a key that the machines share that may write, made where it is missing: with it this machine stands by while another writes, and writes when none does")
	f.Int("nats-replicas", 1, "on how many of those servers the log is kept")
}

// line gives the flags by which several machines are one service.
func (v *serving) line(f *pflag.FlagSet) {
	f.String("nats", "", "servers of NATS with JetStream that carry the log of revisions to other machines, with commas between: nats://127.0.0.1:4222")
	f.String("nats-credentials", "", "file of the credentials by which those servers know this machine")
	f.String("nats-ca", "", "file of the authorities that vouch for those servers, PEM (default: those of the machine)")
	f.String("nats-cert", "", "file of the certificate by which those servers know this machine, PEM")
	f.String("nats-key", "", "file of its key, PEM")
	f.String("machine", "", "name of this machine among the others (default: that of the host)")
}

// environment is the name of a setting in the environment.
func environment(name string) string {
	return "SENTIER_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// origin is where a setting came from.
type origin struct{ Name, Value, From string }

// load puts the layers one on the other, and tells where each setting came from.
func (v *serving) load() (*koanf.Koanf, []origin, error) {
	layers := []struct {
		from   string
		values func() (map[string]any, error)
	}{{"default", v.defaults}, {v.file, v.inFile}, {"environment", v.inEnvironment}, {"flag", v.given}}
	all, from := koanf.New("\x00"), map[string]string{} // names have no parts
	for _, layer := range layers {
		values, err := layer.values()
		if err != nil {
			return nil, nil, err
		}
		one := koanf.New("\x00")
		if err := errors.Join(one.Load(confmap.Provider(values, ""), nil), all.Merge(one)); err != nil {
			return nil, nil, err
		}
		for _, name := range one.Keys() {
			from[name] = layer.from
			if layer.from == "environment" {
				from[name] = environment(name)
			}
		}
	}
	var out []origin
	v.flags.VisitAll(func(f *pflag.Flag) {
		out = append(out, origin{f.Name, strings.Join(listed(all.Get(f.Name)), ","), from[f.Name]})
	})
	return all, out, nil
}

func (v *serving) each(value func(f *pflag.Flag) (any, bool)) (map[string]any, error) {
	out := map[string]any{}
	v.flags.VisitAll(func(f *pflag.Flag) {
		if x, ok := value(f); ok {
			out[f.Name] = x
		}
	})
	return out, nil
}

func (v *serving) defaults() (map[string]any, error) {
	return v.each(func(f *pflag.Flag) (any, bool) { return strings.Trim(f.DefValue, "[]"), true })
}

func (v *serving) inEnvironment() (map[string]any, error) {
	return v.each(func(f *pflag.Flag) (any, bool) {
		x, ok := v.variable(environment(f.Name))
		return x, ok
	})
}

func (v *serving) given() (map[string]any, error) {
	return v.each(func(f *pflag.Flag) (any, bool) {
		value := f.Value
		if named, ok := value.(taking); ok {
			value = named.Value
		}
		if list, ok := value.(pflag.SliceValue); ok {
			return list.GetSlice(), f.Changed
		}
		return value.String(), f.Changed
	})
}

// inFile reads the file, in which every name is that of a flag.
func (v *serving) inFile() (map[string]any, error) {
	out := map[string]any{}
	if v.file == "" {
		return out, nil
	}
	data, err := os.ReadFile(v.file)
	if err != nil {
		return nil, fmt.Errorf("--config: %w", err)
	}
	if err := yaml.Unmarshal(data, &out); err != nil {
		return nil, fmt.Errorf("--config: %s: %s", v.file, strings.Join(strings.Fields(err.Error()), " "))
	}
	var known []string
	v.flags.VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	for name := range out {
		if slices.Contains(known, name) {
			continue
		}
		hint := ": it has " + strings.Join(known, ", ")
		if near := policy.Nearest(name, known); near != "" {
			hint = ": did you mean " + near + "?"
		}
		return nil, fmt.Errorf("--config: %s: %q is no setting%s", v.file, name, hint)
	}
	return out, nil
}

// listed is a setting as texts, however its layer has it.
func listed(value any) []string {
	switch v := value.(type) {
	case nil:
		return nil
	case []string:
		return v
	case []any:
		var out []string
		for _, x := range v {
			out = append(out, fmt.Sprint(x))
		}
		return out
	}
	text := fmt.Sprint(value)
	if text == "" {
		return nil
	}
	var out []string
	for _, part := range strings.Split(text, ",") {
		out = append(out, strings.TrimSpace(part))
	}
	return out
}

// options are how a service is run.
func (v *serving) options(a *app) (daemon.Options, error) {
	k, _, err := v.load()
	o := daemon.Options{Console: a.Console, Version: a.Version}
	if err != nil {
		return o, err
	}
	text := func(name string) string { return strings.Join(listed(k.Get(name)), ",") }
	o.Dir, o.Listen, o.Certificate, o.Key = text("data"), text("listen"), text("tls-cert"), text("tls-key")
	o.Syslog, o.SyslogCA, o.Checkpoints = text("audit-syslog"), text("audit-syslog-ca"), text("checkpoints")
	if o.Dir == "" {
		return o, fmt.Errorf("no folder is given: say --data DIR, %s, or data in the file of --config", environment("data"))
	}
	if (o.Certificate == "") != (o.Key == "") {
		return o, errors.New("--tls-cert and --tls-key go together: give both, or neither")
	}
	switch lines := text("audit-stdout"); lines {
	case "true":
		o.AuditLines = a.Out
	case "false", "":
	default:
		return o, fmt.Errorf("--audit-stdout: %q is neither true nor false", lines)
	}
	if smtp := text("smtp"); smtp != "" {
		if o.Mail, err = mail.ParseSMTP(smtp, v.env("SENTIER_SMTP_PASSWORD"), text("mail-from")); err != nil {
			return o, fmt.Errorf("--smtp: %w", err)
		}
	}
	if public := text("public-url"); public != "" {
		if o.PublicURL, err = daemon.ParsePublicURL(public); err != nil {
			return o, fmt.Errorf("--public-url: %w", err)
		}
	}
	o.Line = daemon.Line{URL: text("nats"), Credentials: text("nats-credentials"), CA: text("nats-ca"), Certificate: text("nats-cert"), Key: text("nats-key"), Machine: text("machine")}
	if (o.Line.Certificate == "") != (o.Line.Key == "") {
		return o, errors.New("--nats-cert and --nats-key go together: give both, or neither")
	}
	if v.follows {
		if o.Following, err = v.following(k); err != nil {
			return o, err
		}
	} else if o.Line.Replicas, err = strconv.Atoi(text("nats-replicas")); err != nil || o.Line.Replicas < 1 || o.Line.Replicas > 5 {
		return o, fmt.Errorf("--nats-replicas: %q is out of range: 1 to 5", text("nats-replicas"))
	}
	if sealing := text("sealing-key"); sealing != "" {
		if o.Line.URL == "" {
			return o, fmt.Errorf("--sealing-key is for one of several machines: give the servers of their log as well, with --nats URL or %s", environment("nats"))
		}
		o.Peers = &daemon.Peers{SealingKey: sealing, WriterCA: text("writer-ca")}
		if o.Peers.Keys, err = keysOf(listed(k.Get("writer-key"))); err != nil {
			return o, err
		}
	} else if !v.follows && text("writer-key")+text("writer-ca") != "" {
		return o, errors.New("--writer-key and --writer-ca are for one of several machines that may write: give --sealing-key as well")
	}
	for _, text := range listed(k.Get("trusted-proxy")) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return o, fmt.Errorf("--trusted-proxy: %q is no network: write it as 127.0.0.1/32 or 10.20.0.0/16", text)
		}
		o.Trusted = append(o.Trusted, p.Masked())
	}
	return o, nil
}

// following is how a machine follows another.
func (v *serving) following(k *koanf.Koanf) (*daemon.Following, error) {
	text := func(name string) string { return strings.Join(listed(k.Get(name)), ",") }
	out := &daemon.Following{WriterCA: text("writer-ca"), GoOn: text("record-full") == "go-on"}
	if text("nats") == "" {
		return nil, fmt.Errorf("no servers of a log are given: say --nats URL, %s, or nats in the file of --config", environment("nats"))
	}
	if full := text("record-full"); full != "wait" && !out.GoOn {
		return nil, fmt.Errorf("--record-full: %q is not known: write wait or go-on", full)
	}
	var err error
	if out.Most, err = strconv.ParseUint(text("record-most"), 10, 64); err != nil || out.Most == 0 {
		return nil, fmt.Errorf("--record-most: %q is no number of entries from 1 on", text("record-most"))
	}
	if out.Keys, err = keysOf(listed(k.Get("writer-key"))); err == nil && len(out.Keys) == 0 {
		err = errors.New("no key is trusted: give the one that “sentier audit key” shows at the machine that writes, with --writer-key")
	}
	return out, err
}

// keysOf reads the keys of machines that may write.
func keysOf(texts []string) ([]ed25519.PublicKey, error) {
	var out []ed25519.PublicKey
	for _, text := range texts {
		key, err := daemon.ParseKey(text)
		if err != nil {
			return nil, fmt.Errorf("--writer-key: %w", err)
		}
		out = append(out, key)
	}
	return out, nil
}

func (a *app) config() *cobra.Command {
	v := serving{Program: a.Program}
	cmd := &cobra.Command{
		Use: "config", Short: "How “sentier serve” would run: what holds, and from where", Args: cobra.NoArgs,
		Long: `Show how “sentier serve” would run with the same flags, environment and file: each
setting, and where it comes from. A flag goes before the environment (SENTIER_LISTEN for
--listen), that before the file of --config, and that before what is usual.`,
		Example: "  sentier config --config /etc/sentier/sentier.yaml",
		RunE: func(*cobra.Command, []string) error {
			_, list, err := v.load()
			if err != nil {
				return err
			}
			s := sheet{head: []string{"SETTING", "VALUE", "FROM"}}
			for _, x := range list {
				s.rows = append(s.rows, []string{x.Name, x.Value, x.From})
			}
			return a.print(list, s)
		},
	}
	v.register(cmd)
	return cmd
}
