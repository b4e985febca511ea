package answers

import (
	"context"
	"crypto/ed25519"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/store"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// AuditQuery says which entries of the record are looked for.
type AuditQuery struct {
	Kinds, Outcomes                          []string // none: any. Of outcomes, denied_any stands for every decision that is a no
	By, User, Of, Device, Right, From, Token string
	Since, Until                             string // RFC 3339, or a local time of the policy's zone
	Limit                                    int
	Cursor                                   string
}

// anyDenial stands, among outcomes, for every decision that is a no.
const anyDenial = "not_granted"

// filter reads a query.
func (s Service) filter(st *service.State, q AuditQuery) (audit.Filter, error) {
	f := audit.Filter{By: q.By, User: q.User, Either: q.Of, Right: q.Right, Token: q.Token}
	f.Device, f.Point, _ = strings.Cut(q.Device, "/")
	for _, k := range q.Kinds {
		if !slices.Contains(audit.Kinds(), audit.Kind(k)) {
			return f, service.Wrong("kind", "%q is no kind of entry", policy.Clip(k))
		}
		f.Kinds = append(f.Kinds, audit.Kind(k))
	}
	for _, o := range q.Outcomes {
		if o == anyDenial {
			f.Not = []string{audit.Granted, audit.Done}
			if len(f.Kinds) == 0 {
				f.Kinds = []audit.Kind{audit.Decision, audit.Question}
			}
			continue
		}
		f.Outcomes = append(f.Outcomes, o)
	}
	if q.From != "" {
		var err error
		if f.From, err = network(q.From); err != nil {
			return f, service.Wrong("from", "%q is no address and no network: write it as 10.20.0.7 or 10.20.0.0/16", policy.Clip(q.From))
		}
	}
	var err error
	f.Since, f.Until, err = s.between(st, q.Since, q.Until)
	return f, err
}

// between reads the bounds of a time, by the clock of the policy; an empty one is none.
func (s Service) between(st *service.State, since, until string) (from, to time.Time, err error) {
	zone, err := policy.LoadZone(st.Policy.Settings().Zone)
	if err != nil {
		return from, to, err
	}
	for _, bound := range []struct {
		field, text string
		into        *time.Time
	}{{"since", since, &from}, {"until", until, &to}} {
		if bound.text == "" {
			continue
		}
		if *bound.into, err = document.ParseInstant(bound.text, s.Now(), zone); err != nil {
			return from, to, service.Wrong(bound.field, "%v", err)
		}
	}
	return from, to, nil
}

// network reads a network, or an address, which is a network of itself.
func network(text string) (netip.Prefix, error) {
	if addr, err := netip.ParseAddr(text); err == nil {
		addr = addr.Unmap().WithZone("")
		return netip.PrefixFrom(addr, addr.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	return p.Masked(), err
}

// Audit lists entries of the record, newest first.
func (s Service) Audit(ctx context.Context, c service.Caller, q AuditQuery) (wire.AuditPage, error) {
	st := s.State()
	out := wire.AuditPage{Items: []wire.AuditEntry{}}
	if err := s.Permit(st, c, service.Whole, ""); err != nil {
		return out, err
	}
	f, err := s.filter(st, q)
	if err != nil {
		return out, err
	}
	if q.Limit == 0 {
		q.Limit = DefaultPage
	}
	if q.Limit < 1 || q.Limit > MaxPage {
		return out, pageError(q.Limit)
	}
	cursorless := q
	cursorless.Cursor, cursorless.Limit = "", 0
	place := cursorOf("audit", cursorless)
	after, err := place.read("cursor", q.Cursor)
	if err != nil {
		return out, err
	}
	if after != "" {
		if f.Before, err = strconv.ParseUint(after, 10, 64); err != nil {
			return out, service.Wrong("cursor", "%q was not given for this question: begin with the first page", policy.Clip(q.Cursor))
		}
	}
	found, err := s.Record().Search(ctx, f, q.Limit)
	if err != nil {
		return out, err
	}
	words, tokens := wording.Accepted(c.Language), map[string]*wire.AuditToken{}
	for i := range found.Entries {
		out.Items = append(out.Items, s.told(st, words, &found.Entries[i], tokens))
	}
	if out.Last, out.Down = s.Record().Last(), found.Next; found.Next > 0 {
		out.Next = place.after(strconv.FormatUint(found.Next, 10))
	}
	return out, nil
}

// told is an entry with the names of what it is about, as the policy has them now, and in words.
func (s Service) told(st *service.State, words wording.Catalogue, e *audit.Entry, tokens map[string]*wire.AuditToken) wire.AuditEntry {
	named := func(t policy.Type, id string) *wire.Named {
		if id == "" {
			return nil
		}
		return &wire.Named{ID: id, Name: st.Policy.Title(t, id)}
	}
	out := wire.AuditEntry{
		Entry: e.Seq, At: e.At, Kind: string(e.Kind), Outcome: e.Outcome, Via: e.Via, From: e.From, Right: e.Right, Point: e.Point, Revision: e.Revision,
		More: e.More, Chain: hex.EncodeToString(e.Chain),
		By: named(policy.Users, e.By), User: named(policy.Users, e.User), Device: named(policy.Devices, e.Device),
	}
	if e.Token != "" && e.Via == string(store.KindToken) {
		out.Token = s.tokenNamed(e.Token, tokens)
	}
	out.Text = words.Audited(st.Policy, &out)
	return out
}

func (s Service) tokenNamed(id string, known map[string]*wire.AuditToken) *wire.AuditToken {
	if t, ok := known[id]; ok {
		return t
	}
	out := &wire.AuditToken{ID: id}
	if t, ok := s.TokenOf(id); ok {
		if out.Name = t.Name; t.CreatedBy != t.UserID {
			out.By = t.CreatedBy
		}
	}
	known[id] = out
	return out
}

// Forms in which the record is taken out.
const (
	JSONLines = "jsonl"
	CSV       = "csv"
)

// ExportAudit gives what writes the entries of a query, oldest first. It stays in the record that they were taken.
func (s Service) ExportAudit(ctx context.Context, c service.Caller, q AuditQuery, form string) (write func(io.Writer) error, err error) {
	st := s.State()
	if err := s.Permit(st, c, service.Whole, ""); err != nil {
		return nil, err
	}
	if form != JSONLines && form != CSV {
		return nil, service.Wrong("format", "%q is no form of the record: write jsonl or csv", policy.Clip(form))
	}
	f, err := s.filter(st, q)
	if err != nil {
		return nil, err
	}
	f.Before = s.Record().Last() + 1 // not what comes meanwhile
	if err := s.Looked(c, audit.Export, "", form); err != nil {
		return nil, err
	}
	if form == CSV {
		return func(to io.Writer) error { return s.auditSheet(ctx, f, to) }, nil
	}
	return func(to io.Writer) error {
		lines := json.NewEncoder(to)
		lines.SetEscapeHTML(false)
		return s.Record().Each(ctx, f, func(e *audit.Entry) error { return lines.Encode(e) })
	}, nil
}

func (s Service) auditSheet(ctx context.Context, f audit.Filter, to io.Writer) error {
	sheet := csv.NewWriter(to)
	if err := sheet.Write(audit.Columns); err != nil {
		return err
	}
	err := s.Record().Each(ctx, f, func(e *audit.Entry) error {
		row := e.Row()
		for i := range row {
			row[i] = document.Guarded(row[i])
		}
		return sheet.Write(row)
	})
	sheet.Flush()
	return errors.Join(err, sheet.Error())
}

// FollowAudit calls send for every entry of a query after one, those that are past first, until ctx ends, the caller's credential does or send
// fails; and with nil when it has been quiet for a while.
func (s Service) FollowAudit(ctx context.Context, c service.Caller, after uint64, q AuditQuery, quiet time.Duration, send func(*wire.AuditEntry) error) error {
	f, err := s.filter(s.State(), q)
	if err != nil {
		return err
	}
	words, tokens := wording.Accepted(c.Language), map[string]*wire.AuditToken{}
	return s.Record().Follow(ctx, after, f, quiet, func(e *audit.Entry) error {
		if !s.Still(c) {
			return service.ErrCredential
		}
		st := s.State()
		if err := s.Permit(st, c, service.Whole, ""); err != nil {
			return err
		}
		if e == nil {
			return send(nil)
		}
		told := s.told(st, words, e, tokens)
		return send(&told)
	})
}

// VerifyAudit reads the whole record back, and holds it against what was kept elsewhere.
func (s Service) VerifyAudit(ctx context.Context, c service.Caller, in wire.VerifyAudit) (wire.AuditVerified, error) {
	if err := s.Permit(s.State(), c, service.Whole, ""); err != nil {
		return wire.AuditVerified{}, err
	}
	against, err := service.Against(in)
	if err != nil {
		return wire.AuditVerified{}, err
	}
	return service.AuditVerified(s.Record().Verify(ctx, against))
}

// SignAudit makes a checkpoint of the record as it is now.
func (s Service) SignAudit(c service.Caller) (audit.Checkpoint, error) {
	if err := s.Permit(s.State(), c, service.Whole, ""); err != nil {
		return audit.Checkpoint{}, err
	}
	return s.Record().Sign()
}

// AuditKey is the key by which checkpoints can be verified.
func (s Service) AuditKey(c service.Caller) (ed25519.PublicKey, error) {
	return s.Record().PublicKey(), s.Permit(s.State(), c, service.Whole, "")
}

// mostShown is how many records a revision may have changed that are told with what was before and after.
const mostShown = 1000
