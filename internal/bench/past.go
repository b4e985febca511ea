package main

import (
	"context"
	"fmt"
	"time"
)

// revisionsBack is how far back a question of the past goes.
const revisionsBack = 10_000

// past measures a question as of many revisions back: the first, against loading the policy as it is; and the next of the same revision, against one
// of the present.
func (r *run) past(s *running, n int) {
	group := "district-100-keepers"
	for i := range revisionsBack {
		user := string(s.world.userIDs[(i/2*7919)%len(s.world.userIDs)])
		s.call([]string{"PUT", "DELETE"}[i%2], "/api/v1/user_groups/"+group+"/members/"+user, "")
	}
	start := time.Now()
	check(s.service.Reload(context.Background()))
	load := time.Since(start)
	question := fmt.Sprintf(`{"user":%q,"right":"control","device":%q}`, s.world.userIDs[1], s.world.deviceIDs[1])
	ask := func(of string) time.Duration {
		start := time.Now()
		s.call("POST", "/api/v1/check"+of, question)
		return time.Since(start)
	}
	first := ask("?as_of=1")
	r.report(figure{"a question as of 10,000 revisions back", n, ratio(first, load), 5, false, fmt.Sprintf("%v, loading the policy %v", first, load)})
	var next, now []time.Duration
	for range 200 {
		next, now = append(next, ask("?as_of=1")), append(now, ask(""))
	}
	a, b := median(next), median(now)
	r.report(figure{"the next question of then", n, ratio(a, b), 2, false, fmt.Sprintf("%v, a question of now %v", a, b)})
}
