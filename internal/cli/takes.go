package cli

import (
	"cmp"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// taking is the value of a flag, called by what it takes instead of by its type in Go.
type taking struct {
	pflag.Value
	takes string
}

func (t taking) Type() string { return t.takes }

// flagsTake say what flags take that are not made from the fields of records: one thing, or several by commas. A flag that one command has
// with another meaning stands with its command.
var flagsTake = map[string]string{
	"at": "TIME", "attended": "true|false", "by": "USER", "data": "DIR", "days": "NUMBER", "degree": "now|later|if,...", "device": "DEVICE,...",
	"device-group": "DEVICE-GROUP,...", "devices": "NUMBER", "format": "table|json|yaml|csv", "from": "TIME", "grant": "GRANT", "group": "GROUP,...",
	"if-attended": "true|false", "if-network": "NETWORK,...", "if-place": "SITE,...", "if-state": "in-service|maintenance|retired,...",
	"if-strong-sign-in": "true|false", "in-group": "GROUP", "in-site": "SITE", "ip": "ADDRESS", "json": "JSON", "handover": "TIME", "keep": "GROUP,...", "junit": "FILE", "language": "en|fr", "hours": "NUMBER", "mandate": "MANDATE", "network": "NETWORK,...", "limit": "NUMBER",
	"line": "NUMBER", "listen": "ADDRESS", "name": "NAME", "note": "TEXT", "approval": "RULE,...", "mend": "NUMBER", "sentier upkeep list --kind": "KIND", "draft": "DRAFT", "due": "TIME", "unanswered": "told|suspended|taken", "sentier review keep --group": "GROUP", "sentier review take --group": "GROUP", "owner": "USER", "override": "EXPECTATION,...", "people": "NUMBER", "place": "SITE", "point": "DEVICE/POINT,...",
	"policy": "FILE", "public-url": "URL", "reason": "TEXT", "acts": "FILE", "as-draft": "NAME", "record": "TYPE/ID", "right": "RIGHT", "role": "ROLE,...", "search": "WORD", "server": "URL", "site": "SITE",
	"tag": "TAG,...", "tls-cert": "FILE", "tls-key": "FILE", "trusted-proxy": "NETWORK,...", "until": "TIME", "user": "USER", "when": "SCHEDULE,...",
	"where": "FIELD=VALUE", "with": "members|groups|grants|own_grants,...",

	"as-of": "REVISION|TIME",

	"url": "URL", "ca": "FILE", "bind": "DN", "secret": "NAME", "schema": "group-of-names|rfc2307|rfc2307bis|in-chain", "sentier source add --people": "DN", "sentier source edit --people": "DN", "groups": "DN", "people-filter": "FILTER", "groups-filter": "FILTER",
	"id-attribute": "ATTRIBUTE", "email-attribute": "ATTRIBUTE", "seconds": "NUMBER", "map": "GROUP=GROUP", "map-prefix": "TEXT=GROUP", "map-suffix": "TEXT=GROUP", "map-pattern": "TEXT=GROUP", "map-under": "DN=GROUP", "zone": "ZONE", "timed": "days|left_out", "inventory": "csv|jsonl", "column": "FIELD=NAME", "days-of": "CATEGORY=CALENDAR", "days-named": "NAME=CALENDAR", "sentier source add --days": "CALENDAR", "sentier source edit --days": "CALENDAR",
	"issuer": "URL", "client-id": "ID", "scope": "SCOPE,...", "groups-claim": "CLAIM", "id-claim": "CLAIM", "strong": "ACR,...", "audience": "AUDIENCE",
	"gone": "suspended|removed|kept", "share": "NUMBER", "undo": "refused|until_next", "every": "NUMBER", "digest": "DIGEST",

	"after": "ENTRY", "checkpoints": "FILE", "config": "FILE", "smtp": "URL", "mail-from": "ADDRESS", "against": "FILE", "audit-syslog": "HOST:PORT", "audit-syslog-ca": "FILE", "decisions": "all|control_and_denials|none", "decisions-of": "RULE", "idle-minutes": "NUMBER", "behind-minutes": "NUMBER", "keep-days": "NUMBER",
	"key": "KEY", "kind": "KIND,...", "of": "USER", "outcome": "OUTCOME,...", "session-hours": "NUMBER", "since": "TIME", "token": "TOKEN",
	"sentier audit list --from": "ADDRESS", "sentier audit export --from": "ADDRESS", "sentier audit follow --from": "ADDRESS",
	"sentier audit list --device": "DEVICE/POINT", "sentier audit export --device": "DEVICE/POINT", "sentier audit follow --device": "DEVICE/POINT",

	"nats": "URL,...", "nats-ca": "FILE", "nats-cert": "FILE", "nats-key": "FILE", "nats-credentials": "FILE", "nats-replicas": "NUMBER", "machine": "NAME", "writer-key": "KEY,...", "writer-ca": "FILE", "sealing-key": "FILE",
	"record-full": "wait|go-on", "service": "URL", "snapshot": "FILE", "lasts": "DURATION", "mqtt": "URL", "mqtt-topic": "TOPIC", "mqtt-ca": "FILE",

	"for":                        "TIME",
	"sentier request grant --by": "NUMBER", "sentier mine give-back --group": "GROUP",

	"sentier user move --to": "GROUP", "sentier user move --from": "GROUP,...",
	"sentier grant give --limit": "NAME=NUMBER", "sentier grant give --right": "RIGHT,...", "sentier grant give --site": "SITE,...",
	"sentier grant give --user": "USER,...", "sentier grant take --user": "USER,...",
	"sentier matrix --user": "USER,...", "sentier matrix --site": "SITE,...",
}

// nameValues has the help of all flags say what they take.
func nameValues(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		nameValues(sub)
	}
	name := func(f *pflag.Flag) {
		takes := cmp.Or(flagsTake[cmd.CommandPath()+" --"+f.Name], flagsTake[f.Name])
		if takes != "" && goTypes[f.Value.Type()] {
			f.Value = taking{f.Value, takes}
		}
	}
	cmd.Flags().VisitAll(name)
	cmd.PersistentFlags().VisitAll(name)
}

// goTypes are what flags would be called by their types in Go.
var goTypes = map[string]bool{"string": true, "strings": true, "stringSlice": true, "stringArray": true, "stringToString": true, "int": true, "duration": true}
