package server

import (
	"errors"
	"net/http"
	"net/url"

	"sentier/internal/service"
)

// signOnPath is below what browsers go to a provider, and come back.
const signOnPath = "/sign-on"

type (
	signOnBack struct {
		State            string `query:"state"`
		Code             string `query:"code"`
		Issuer           string `query:"iss"`
		Error            string `query:"error"`
		ErrorDescription string `query:"error_description"`
		ErrorURI         string `query:"error_uri"`
		SessionState     string `query:"session_state"`
	}
)

// signOnRoutes are how people sign in at providers. Browsers and providers go there, and no client: they are no part of the interface that OpenAPI describes.
func (s *Server) signOnRoutes() []route {
	return []route{
		{id: "signOn", method: "GET", path: signOnPath + "/{id}", tag: "session", summary: "Sign in at a provider", open: true, handle: s.signOn},
		{id: "signedOn", method: "GET", path: signOnPath + "/{id}/callback", tag: "session", summary: "Back from a provider", open: true, in: signOnBack{}, handle: s.signedOn},
		{id: "loggedOut", method: "POST", path: signOnPath + "/{id}/logout", tag: "session", summary: "A provider says that somebody has logged out", open: true, takes: formText, handle: s.loggedOut},
	}
}

func (s *Server) signOns(r *request) error { return r.JSON(http.StatusOK, s.service.SignOnProviders()) }

// here is the address below which browsers reach the service.
func (r *request) here() string {
	scheme := "http"
	if r.server.isSecure(r.origin) {
		scheme = "https"
	}
	return scheme + "://" + r.Request().Host + r.prefix
}

func (r *request) signOnBack(id string) string {
	return r.here() + signOnPath + "/" + url.PathEscape(id) + "/callback"
}

// signOnCookie keeps in the browser what was begun. It is sent when the browser comes back from the provider, and to nowhere else.
func (s *Server) signOnCookie(r *request, value string, maxAge int) *http.Cookie {
	return &http.Cookie{Name: "sentier_sign_on", Value: value, Path: r.prefix + signOnPath, MaxAge: maxAge, HttpOnly: true, Secure: s.isSecure(r.origin), SameSite: http.SameSiteLaxMode}
}

func (s *Server) signOn(r *request) error {
	id := r.Param("id")
	to, kept, err := s.service.BeginSignOn(r.Request().Context(), id, r.signOnBack(id))
	if err != nil {
		return s.signOnFailed(r, err)
	}
	r.SetCookie(s.signOnCookie(r, kept, 600))
	r.Response().Header().Set("Cache-Control", "no-store")
	return r.Redirect(http.StatusFound, to)
}

func (s *Server) signedOn(r *request) error {
	id, kept := r.Param("id"), ""
	if cookie, err := r.Request().Cookie("sentier_sign_on"); err == nil {
		kept = cookie.Value
	}
	r.SetCookie(s.signOnCookie(r, "", -1))
	session, err := s.service.FinishSignOn(r.Request().Context(), id, r.signOnBack(id), kept, r.QueryParam("state"), r.QueryParam("code"), r.QueryParam("iss"), r.origin.address)
	s.metrics.signedIn(err)
	if err != nil {
		return s.signOnFailed(r, err)
	}
	r.SetCookie(s.cookie(r, session.Token, 0))
	r.Response().Header().Set("Cache-Control", "no-store")
	return r.Redirect(http.StatusSeeOther, r.prefix+"/")
}

// signOnFailed shows whoever comes back why they do not come in: in words of ours, by a code.
func (s *Server) signOnFailed(r *request, err error) error {
	var refused *service.SignOnError
	if !errors.As(err, &refused) {
		return err
	}
	r.Response().Header().Set("Cache-Control", "no-store")
	return r.Redirect(http.StatusSeeOther, r.prefix+"/?sign_on="+url.QueryEscape(refused.Code))
}

func (s *Server) loggedOut(r *request) error {
	data, err := r.body()
	if err != nil {
		return err
	}
	form, err := url.ParseQuery(string(data))
	if err != nil {
		return service.Wrong("logout_token", "is missing")
	}
	r.Response().Header().Set("Cache-Control", "no-store")
	if err := s.service.SignOnLogout(r.Request().Context(), r.Param("id"), form.Get("logout_token"), r.origin.address); err != nil {
		return err
	}
	return r.NoContent(http.StatusOK)
}
