package scim

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/strict"
)

// Bounds of what is read of another service.
const (
	readTime   = 2 * time.Minute
	mostAnswer = 32 << 20 // bytes of a page
	readPage   = 200      // resources that are asked for at once
	mostRead   = 500_000  // resources
)

// Fetch reads all users and groups of another service by SCIM 2.0 (RFC 7644, 3.4.2), as the bearer of a token. A service that says less than all of it is none that was read.
func Fetch(ctx context.Context, from *source.Feed, token string) (*source.Held, error) {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	r := reader{base: strings.TrimSuffix(from.URL, "/"), token: token, client: outbound.Client(from.Authority, readTime, mostAnswer)}
	defer outbound.CloseIdle(r.client)
	held := &source.Held{}
	people := map[string]bool{}
	err := r.each(ctx, "Users", func(one Resource) {
		if !Active(one) {
			return // as if they were not there
		}
		p := source.Person{Outside: Text(one, "id"), ID: Text(one, "userName"), Name: NameOf(one), Email: AddressOf(one)}
		p.Place = cmp.Or(p.ID, p.Outside)
		people[p.Outside] = true
		held.People = append(held.People, p)
	})
	if err != nil {
		return nil, err
	}
	var nests []source.Nest
	var within [][]string // ids, by group
	at := map[string]int{}
	err = r.each(ctx, "Groups", func(one Resource) {
		n := source.Nest{Group: source.Group{Outside: Text(one, "id"), Place: Text(one, "displayName"), Name: Text(one, "displayName")}}
		if n.Name == "" {
			held.Told = append(held.Told, source.Problem{Place: n.Outside, Why: policy.Say("the group has no name: it is none that could be mapped")})
			return
		}
		var ids []string
		for _, m := range Values(one, "members") {
			ids = append(ids, Text(m, "value"))
		}
		at[n.Outside] = len(nests)
		nests, within = append(nests, n), append(within, ids)
	})
	if err != nil {
		return nil, err
	}
	for i, ids := range within {
		for _, id := range ids {
			if g, is := at[id]; is {
				nests[i].Within = append(nests[i].Within, g)
			} else if people[id] {
				nests[i].People = append(nests[i].People, id)
			}
		}
	}
	for i := range nests {
		group, _ := source.Closed(nests, i)
		held.Groups = append(held.Groups, group)
	}
	return held, nil
}

type reader struct {
	base, token string
	client      *http.Client
}

// each reads all resources of a type, page by page.
func (r *reader) each(ctx context.Context, path string, take func(Resource)) error {
	seen := map[string]bool{}
	for start := 1; ; {
		query := url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(readPage)}}
		body, err := outbound.Get(ctx, r.client, r.base+"/"+path+"?"+query.Encode(), r.token, "application/scim+json, application/json")
		if err != nil {
			return err
		}
		var page struct {
			Total     *int       `json:"totalResults"`
			Resources []Resource `json:"Resources"`
		}
		if err := strict.ReadOpen(body, &page); err != nil || page.Total == nil {
			return outbound.Fault(err, "what it says of %s is no list of SCIM: look at the address, which ends before /Users", path)
		}
		if *page.Total > mostRead {
			return outbound.Fault(nil, "it has %d %s: up to %d are read", *page.Total, path, mostRead)
		}
		for _, one := range page.Resources {
			id := Text(one, "id")
			if id == "" {
				return outbound.Fault(nil, "one of its %s has no id: what it says is not to be trusted", path)
			}
			if seen[id] {
				return outbound.Fault(nil, "it says %s of %s twice: what it says by pages is not to be trusted", policy.Clip(id), path)
			}
			seen[id] = true
			take(one)
		}
		if len(seen) >= *page.Total {
			return nil
		}
		if len(page.Resources) == 0 {
			return outbound.Fault(nil, "it has said %d of %d %s and no more", len(seen), *page.Total, path)
		}
		start += len(page.Resources)
	}
}

// NameOf is how somebody is called: as it is displayed, or the parts of the name.
func NameOf(r Resource) string {
	parts := strings.TrimSpace(Text(r, "name.givenName") + " " + Text(r, "name.familyName"))
	return strings.TrimSpace(cmp.Or(Text(r, "displayName"), Text(r, "name.formatted"), parts, Text(r, "userName")))
}

// AddressOf is the address of somebody: the primary, or the first.
func AddressOf(r Resource) string {
	first := ""
	for _, v := range Values(r, "emails") {
		if v["primary"] == true {
			return Text(v, "value")
		}
		first = cmp.Or(first, Text(v, "value"))
	}
	return first
}
