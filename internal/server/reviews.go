package server

import (
	"context"
	"net/http"
	"net/url"

	"sentier/internal/mail"
	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	reviewsQuery struct {
		All bool `query:"all" description:"those that are over as well"`
	}
	answerReviewQuery struct {
		ID     string `path:"id"`
		DryRun bool   `query:"dry_run" description:"change nothing, and say what would be gained and lost"`
	}
)

func (s *Server) reviewRoutes() []route {
	return []route{
		{id: "listReviews", method: "GET", path: "/api/v1/reviews", tag: "reviews", summary: "Rounds in which those responsible confirm or take away what people hold", in: reviewsQuery{}, needs: service.Read, out: []wire.ReviewHead{}, handle: s.reviews},
		{id: "createReview", method: "POST", path: "/api/v1/reviews", tag: "reviews", summary: "Begin a review of what is held now", in: wire.NewReview{}, needs: service.Manage, takes: smallJSON, heavy: true, out: wire.Review{}, status: 201, handle: s.newReview},
		{id: "getReview", method: "GET", path: "/api/v1/reviews/{id}", tag: "reviews", summary: "A review as a whole: who holds what, what it gives, who answers, and how far it has come", in: idPath{}, needs: service.Read, hides: true, heavy: true, out: wire.Review{}, handle: s.review},
		{id: "answerReview", method: "POST", path: "/api/v1/reviews/{id}/answers", tag: "reviews", summary: "Confirm, or take away, what people hold", in: []any{answerReviewQuery{}, wire.ReviewAnswers{}}, needs: service.Write, takes: manyJSON, hides: true, heavy: true, out: wire.Reviewed{}, handle: s.answerReview},
		{id: "stopReview", method: "DELETE", path: "/api/v1/reviews/{id}", tag: "reviews", summary: "Give a review up; what was answered stays", in: idPath{}, needs: service.Manage, status: 204, handle: s.stopReview},
	}
}

func (s *Server) reviews(r *request) error {
	all, err := r.flag("all")
	if err != nil {
		return err
	}
	return r.tell(s.service.Reviews(r.Request().Context(), r.caller, all))
}

func (s *Server) newReview(r *request) error {
	var in wire.NewReview
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := r.answers().NewReview(r.Request().Context(), r.caller, in)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Location", s.prefix()+"/api/v1/reviews/"+url.PathEscape(out.ID))
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) review(r *request) error {
	return r.tell(r.answers().Review(r.Request().Context(), r.caller, r.id()))
}

func (s *Server) answerReview(r *request) error {
	var in wire.ReviewAnswers
	if err := r.decode(&in); err != nil {
		return err
	}
	dry, err := r.flag("dry_run")
	if err != nil {
		return err
	}
	return r.tell(s.service.AnswerReview(r.Request().Context(), r.caller, r.id(), in, service.EditOptions{DryRun: dry, Impact: dry}))
}

func (s *Server) stopReview(r *request) error {
	if err := s.service.StopReview(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

// remindByMail tells those who are to answer a review.
func (s *Server) remindByMail(ctx context.Context, list []service.Reminder) {
	ctx, cancel := context.WithTimeout(ctx, tellTime)
	defer cancel()
	for _, x := range list {
		words := x.To.Words
		letter := mail.Letter{To: x.To.Email, Name: x.To.Name, Subject: words.Say("mail.review.subject", "review", x.Name),
			Text: words.Say("mail.review.text", "name", x.To.Name, "review", x.Name, "count", words.Counted("mail.review.count", x.Waiting), "time", words.Time(x.Due, x.To.Zone), "link", s.base()+"/reviews/"+url.PathEscape(x.ID))}
		if err := s.mail.Send(ctx, letter); err != nil {
			s.log.Warn("a review could not be told by mail", "to", x.To.Name, "error", err)
		}
	}
}
