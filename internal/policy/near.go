package policy

import (
	"iter"
	"strings"
)

// Nearest finds what was probably meant by word among the candidates: the one with the fewest
// letters added, dropped, changed or swapped, if those are few. Empty where nothing is near.
func Nearest(word string, candidates []string) string {
	return nearest(word, func(yield func(string) bool) {
		for _, c := range candidates {
			if !yield(c) {
				return
			}
		}
	})
}

func nearest(word string, candidates iter.Seq[string]) string {
	word = strings.ToLower(strings.TrimSpace(word))
	limit := 1 + len(word)/4
	best := ""
	for c := range candidates {
		if d := distance(word, strings.ToLower(c), limit); d <= limit && (best == "" || d < limit || c < best) {
			best, limit = c, d
		}
	}
	if best == "" || limit >= len(word) {
		return ""
	}
	return best
}

// distance is the optimal string alignment distance, or limit+1 where it is over limit.
func distance(a, b string, limit int) int {
	if len(a)-len(b) > limit || len(b)-len(a) > limit {
		return limit + 1
	}
	before, last, now := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		least := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
			least = min(least, now[j])
		}
		if least > limit {
			return limit + 1
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}
