package enforce

import (
	"context"
	"encoding/json"
	"net/http"
)

// Middleware lets requests through whose sender may do what they are about. question reads what that is, and who they are, which whoever calls it has proved;
// false: there is nobody, and nothing is let through. Whoever may not has 403, and 503 where the point does not open anything now.
func (p *Point) Middleware(question func(*http.Request) (Question, bool)) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			q, ok := question(r)
			if !ok {
				refuse(w, http.StatusUnauthorized, "nobody has proved who they are")
				return
			}
			a := p.Ask(&q)
			switch {
			case a.Allowed:
				next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), answerKey{}, a)))
			case a.Reason == NotCurrent || a.Reason == ClockMoved:
				w.Header().Set("Retry-After", "5")
				refuse(w, http.StatusServiceUnavailable, string(a.Reason))
			default:
				refuse(w, http.StatusForbidden, string(a.Reason))
			}
		})
	}
}

type answerKey struct{}

// AnswerOf is the answer by which a request was let through: its end, and its limits.
func AnswerOf(ctx context.Context) (Answer, bool) {
	a, ok := ctx.Value(answerKey{}).(Answer)
	return a, ok
}

// refuse answers with a problem (RFC 9457).
func refuse(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail}) // whoever has gone reads none
}
