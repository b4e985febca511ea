package server

import (
	"net/http"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// Sign-ins and what belongs to an account: sessions, second factors, passkeys, preferences, links and tokens.

func (s *Server) signIn(r *request) error {
	var in wire.Credentials
	if err := r.decode(&in); err != nil {
		return err
	}
	session, err := s.service.SignIn(r.Request().Context(), in, r.origin.address)
	s.metrics.signedIn(err)
	return s.begun(r, session, err)
}

func (s *Server) needsSetUp(r *request) error {
	return r.JSON(http.StatusOK, wire.SetUpNeeded{Needed: s.service.NeedsSetUp()})
}

func (s *Server) setUp(r *request) error {
	var in wire.SetUp
	if err := r.decode(&in); err != nil {
		return err
	}
	session, err := s.service.SetUp(r.Request().Context(), in, r.origin.address)
	return s.begun(r, session, err)
}

// begun answers with a session: to a browser as a cookie, to a terminal as a token.
func (s *Server) begun(r *request, session wire.Session, err error) error {
	if err != nil {
		return err
	}
	if !session.Terminal {
		r.SetCookie(s.cookie(r, session.Token, 0))
		session.Token = ""
	}
	return r.JSON(http.StatusOK, session)
}

func (s *Server) welcome(r *request) error {
	var in wire.Welcome
	if err := r.decode(&in); err != nil {
		return err
	}
	session, err := s.service.Welcome(r.Request().Context(), in, r.origin.address)
	return s.begun(r, session, err)
}

func (s *Server) changePassword(r *request) error {
	var in wire.NewPassword
	if err := r.decode(&in); err != nil {
		return err
	}
	session, err := s.service.ChangePassword(r.Request().Context(), r.caller, in, r.origin.address)
	return s.begun(r, session, err)
}

func (s *Server) givePassword(r *request) error {
	var in wire.GivenPassword
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.GivePassword(r.Request().Context(), r.caller, r.Param("id"), in); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) signInsOf(r *request) error {
	return r.tell(s.service.SignIns(r.Request().Context(), r.caller, r.Param("id")))
}

func (s *Server) endSessionsOf(r *request) error {
	if err := s.service.EndSessionsOf(r.Request().Context(), r.caller, r.Param("id")); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) factors(r *request) error {
	return r.tell(s.service.Factors(r.Request().Context(), r.caller))
}

func (s *Server) beginPasskey(r *request) error {
	var in wire.NewFactor
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.BeginPasskey(r.Request().Context(), r.caller, in, r.origin.address))
}

func (s *Server) confirmPasskey(r *request) error {
	var in wire.PasskeyMade
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.ConfirmPasskey(r.Request().Context(), r.caller, in, r.expires)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) beginPasskeySignIn(r *request) error { return r.tell(s.service.BeginPasskeySignIn()) }

func (s *Server) signInByPasskey(r *request) error {
	var in wire.PasskeySigned
	if err := r.decode(&in); err != nil {
		return err
	}
	session, err := s.service.SignInByPasskey(r.Request().Context(), in, r.origin.address)
	s.metrics.signedIn(err)
	return s.begun(r, session, err)
}

func (s *Server) beginFactor(r *request) error {
	var in wire.NewFactor
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.BeginFactor(r.Request().Context(), r.caller, in, r.origin.address))
}

func (s *Server) confirmFactor(r *request) error {
	var in wire.FactorProof
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.ConfirmFactor(r.Request().Context(), r.caller, in, r.expires, r.origin.address)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) dropFactor(r *request) error {
	var in wire.OwnProof
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.DropFactor(r.Request().Context(), r.caller, r.Param("id"), in, r.origin.address); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) recoveryCodes(r *request) error {
	var in wire.OwnProof
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.NewRecoveryCodes(r.Request().Context(), r.caller, in, r.origin.address)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) resetFactors(r *request) error {
	if err := s.service.ResetFactors(r.Request().Context(), r.caller, r.Param("id")); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) preferences(r *request) error {
	return r.tell(s.service.Preferences(r.Request().Context(), r.caller))
}

func (s *Server) setPreferences(r *request) error {
	var in wire.Preferences
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.SetPreferences(r.Request().Context(), r.caller, in); err != nil {
		return err
	}
	return r.JSON(http.StatusOK, in)
}

func (s *Server) sessions(r *request) error {
	list, err := s.service.Sessions(r.Request().Context(), r.caller)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, list)
}

func (s *Server) endSession(r *request) error {
	if err := s.service.EndSession(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) endSessions(r *request) error {
	if err := s.service.EndOtherSessions(r.Request().Context(), r.caller); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

// invite makes a link. Its secret stands behind a #, which no browser sends and no proxy logs.
func (s *Server) invite(r *request) error {
	secret, until, err := s.service.Invite(r.Request().Context(), r.caller, r.id())
	if err != nil {
		return err
	}
	out := wire.Invitation{Link: s.base() + "/welcome#" + secret, Expires: until}
	if err := s.sendLink(r, &out); err != nil {
		s.log.Warn("a link could not be sent", "user", service.Clip(r.id()), "error", err)
		out.Failed = err.Error()
	}
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) session(r *request) error {
	return r.JSON(http.StatusOK, s.service.Session(r.caller, r.expires))
}

func (s *Server) signOut(r *request) error {
	if err := s.service.RevokeToken(r.Request().Context(), r.caller, r.caller.Token); err != nil {
		return err
	}
	r.SetCookie(s.cookie(r, "", -1))
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) tokens(r *request) error {
	list, err := s.service.Tokens(r.Request().Context(), r.caller, r.QueryParam("user"))
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, list)
}

func (s *Server) createToken(r *request) error {
	var in wire.NewToken
	if err := r.decode(&in); err != nil {
		return err
	}
	o, err := r.asked()
	if err != nil {
		return err
	}
	token, err := s.service.CreateToken(r.Request().Context(), r.caller, in, o)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, token)
}

func (s *Server) rotateToken(r *request) error {
	var in wire.Rotation
	body, err := r.body()
	if err != nil {
		return err
	}
	if len(body) > 0 {
		if err := service.Decode(body, &in); err != nil {
			return &badRequest{err}
		}
	}
	t, err := s.service.RotateToken(r.Request().Context(), r.caller, r.Param("id"), in)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, t)
}

func (s *Server) revokeToken(r *request) error {
	if err := s.service.RevokeToken(r.Request().Context(), r.caller, r.Param("id")); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
