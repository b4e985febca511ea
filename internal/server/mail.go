package server

import (
	"context"
	"time"

	"sentier/internal/mail"
	"sentier/internal/wire"
)

// sendLink sends a link to whoever it is for, where mail is sent and they have an address: then nobody else needs to see it.
func (s *Server) sendLink(r *request, link *wire.Invitation) error {
	to := s.service.Addressee(r.Request().Context(), r.id())
	if s.mail == nil || to.Email == "" {
		return nil
	}
	words := to.Words
	err := s.mail.Send(r.Request().Context(), mail.Letter{To: to.Email, Name: to.Name, Subject: words.Say("mail.link.subject"),
		Text: words.Say("mail.link.text", "name", to.Name, "link", link.Link, "time", words.Time(link.Expires, to.Zone))})
	if err == nil {
		link.Link, link.Sent = "", to.Email
	}
	return err
}

// tellTime is how long it may take to tell of a request.
const tellTime = 2 * time.Minute

// tellOf answers who has asked for something, and tells by mail those who may answer it, or who look after the group that was joined. Whoever
// asked does not wait for that.
func (s *Server) tellOf(r *request, asked wire.Request, err error) error {
	if err != nil {
		return err
	}
	if s.mail != nil {
		ctx := context.WithoutCancel(r.Request().Context())
		go s.tellByMail(ctx, asked)
	}
	return r.tell(asked, nil)
}

func (s *Server) tellByMail(ctx context.Context, asked wire.Request) {
	ctx, cancel := context.WithTimeout(ctx, tellTime)
	defer cancel()
	for _, to := range s.service.Answerers(ctx, asked.ID) {
		words := to.Words
		letter := mail.Letter{To: to.Email, Name: to.Name, Subject: words.Say("mail.request.subject", "user", asked.User.Name),
			Text: words.Say("mail.request.text", "name", to.Name, "user", asked.User.Name, "what", to.What, "reason", asked.Reason, "link", s.base()+"/today")}
		if err := s.mail.Send(ctx, letter); err != nil {
			s.log.Warn("a request could not be told by mail", "to", to.Name, "error", err)
		}
	}
}
