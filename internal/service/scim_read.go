package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"sentier/internal/policy"
	"sentier/internal/scim"
	"sentier/internal/source"
)

// resource is a resource as it is told.
func (w *scimWork) resource(path, id string) (scim.Resource, error) {
	of := scimTypes[path]
	_, told, ok := w.origin(of.Type, id)
	if !ok {
		return nil, ErrNotFound
	}
	record, there := w.policy.Get(of.Type, id)
	if !there {
		return nil, ErrNotFound
	}
	out := scim.Resource{}
	for k, v := range told.Attributes {
		out[k] = v
	}
	out["schemas"], out["id"] = []any{of.Schema}, id
	if _, ok := out[scim.EnterpriseSchema]; ok {
		out["schemas"] = []any{of.Schema, scim.EnterpriseSchema}
	}
	switch r := record.(type) {
	case *policy.User:
		out["active"] = r.Status == policy.Active
		groups := []any{}
		for _, g := range w.known.Memberships(w.source.ID, id) {
			groups = append(groups, scim.Resource{"value": g, "display": w.policy.Title(policy.UserGroups, g), "$ref": w.base + "/Groups/" + g})
		}
		if len(groups) > 0 {
			out["groups"] = groups
		}
	case *policy.UserGroup:
		members := []any{}
		for _, m := range r.Members {
			if _, _, ours := w.origin(policy.Users, string(m.User)); ours && m.Span() == (policy.Span{}) {
				members = append(members, scim.Resource{"value": string(m.User), "display": w.policy.Title(policy.Users, string(m.User)), "type": "User", "$ref": w.base + "/Users/" + string(m.User)})
			}
		}
		for _, inner := range heldGroups(told.Attributes) {
			if _, _, ours := w.origin(policy.UserGroups, inner); ours && slices.Contains(r.Includes, policy.UserGroupID(inner)) {
				members = append(members, scim.Resource{"value": inner, "display": w.policy.Title(policy.UserGroups, inner), "type": "Group", "$ref": w.base + "/Groups/" + inner})
			}
		}
		if delete(out, "members"); len(members) > 0 {
			out["members"] = members
		}
	}
	out["meta"] = scim.Resource{"resourceType": of.Name, "created": told.Created.Format(time.RFC3339Nano), "lastModified": told.Changed.Format(time.RFC3339Nano), "location": w.base + "/" + path + "/" + id}
	return out, nil
}

// heldGroups are the groups within a group, as its source has told them.
func heldGroups(a scim.Resource) (out []string) {
	for _, m := range scim.Values(a, "members") {
		out = append(out, scim.Text(m, "value"))
	}
	return out
}

// version is the entity tag of a resource: the same for the same content.
func version(r scim.Resource) string {
	plain := scim.Resource{}
	for k, v := range r {
		switch list, _ := v.([]any); {
		case k == "meta":
		case k == "groups": // which are of the groups
		case k == "members":
			var ids []any
			for _, m := range list {
				one, _ := m.(scim.Resource)
				ids = append(ids, one["value"])
			}
			plain[k] = ids
		default:
			plain[k] = v
		}
	}
	text, err := json.Marshal(plain)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// versioned puts the entity tag of a resource into it.
func versioned(r scim.Resource) scim.Resource {
	if meta, ok := r["meta"].(scim.Resource); ok {
		meta["version"] = version(r)
	}
	return r
}

// SCIMQuery selects resources.
type SCIMQuery struct {
	Path       string
	Filter     string
	SortBy     string
	Descending bool
	Start      int // from 1
	Count      int
}

// reading is the work of reading alone.
func (s *Service) scimReading(ctx context.Context, c Caller, base string) (*scimWork, error) {
	k, err := s.scimSource(ctx, c)
	if err != nil {
		return nil, err
	}
	return &scimWork{source: k, policy: s.State().Policy, known: s.known.Load(), base: base}, nil
}

// SCIMResource is one resource of the source; base is the address of SCIM.
func (s *Service) SCIMResource(ctx context.Context, c Caller, base, path, id string) (scim.Resource, error) {
	w, err := s.scimReading(ctx, c, base)
	if err != nil {
		return nil, err
	}
	if _, ok := scimTypes[path]; !ok {
		return nil, ErrNotFound
	}
	r, err := w.resource(path, id)
	if err != nil {
		return nil, err
	}
	return versioned(r), nil
}

// SCIMList is a page of the resources of the source, and how many there are in all.
func (s *Service) SCIMList(ctx context.Context, c Caller, base string, q SCIMQuery) (page []scim.Resource, total int, err error) {
	w, err := s.scimReading(ctx, c, base)
	if err != nil {
		return nil, 0, err
	}
	of, ok := scimTypes[q.Path]
	if !ok {
		return nil, 0, ErrNotFound
	}
	var filter *scim.Filter
	if q.Filter != "" {
		if filter, err = scim.ParseFilter(of.Schema, q.Filter); err != nil {
			return nil, 0, err
		}
	}
	var found []scim.Resource
	for _, o := range w.candidates(of.Type, filter) {
		if filter == nil && q.SortBy == "" { // what is on other pages is counted alone
			if total++; total < q.Start || total >= q.Start+q.Count {
				continue
			}
		}
		r, err := w.resource(q.Path, o.Record)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, 0, err
		}
		if filter == nil || filter.Holds(r) {
			found = append(found, r)
		}
	}
	if filter == nil && q.SortBy == "" {
		return versionedAll(found), total, nil
	}
	if q.SortBy != "" {
		if err := scim.Sort(of.Schema, found, q.SortBy, q.Descending); err != nil {
			return nil, 0, err
		}
	}
	from := min(q.Start-1, len(found))
	return versionedAll(found[from:min(from+q.Count, len(found))]), len(found), nil
}

func versionedAll(page []scim.Resource) []scim.Resource {
	for _, r := range page {
		versioned(r)
	}
	return page
}

// candidates are the things of the source among which those are that a filter means.
func (w *scimWork) candidates(t policy.Type, filter *scim.Filter) []source.Origin {
	by := map[policy.Type]string{policy.Users: "userName", policy.UserGroups: "displayName"}[t]
	if name, ok := filter.Exactly(by); ok {
		if id, ok := w.known.At(w.source.ID, t, name); ok {
			if o, _, ok := w.origin(t, id); ok {
				return []source.Origin{o}
			}
		}
		return nil
	}
	return w.known.Things(w.source.ID, t)
}
