package identity

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/boombuler/barcode/qr"
	"github.com/google/uuid"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
)

// Codes by RFC 6238: six digits of SHA-1, which every program for them takes, a step of half a minute, and a step before and after for
// clocks that differ.
const (
	stepSeconds   = 30
	codeDigits    = 6
	secretBytes   = 20
	enrolmentTime = 15 * time.Minute
	mostEnrolling = 1000
	mostFactors   = 10
	recoveryCodes = 10
)

// ErrCode is that a second factor is needed beside the password: a code was not given, or is not good.
var ErrCode = told("a code of your second factor belongs with the password, and each is good once: take the one that is shown now, or a recovery code")

var unpadded = base32.StdEncoding.WithPadding(base32.NoPadding)

// enrolment is a second factor that nobody has proved to have yet.
type enrolment struct {
	secret []byte
	at     time.Time
}

// factorCache knows who has second factors, and which are being set up, by session.
type factorCache struct {
	mu        sync.Mutex
	of        map[string]int
	enrolling map[string]enrolment
}

func (r *Registry) loadFactors(ctx context.Context) error {
	r.factors.of, r.factors.enrolling = map[string]int{}, map[string]enrolment{}
	list, err := r.Kept.SecondFactors(ctx, "")
	if err != nil {
		return fmt.Errorf("read the second factors: %w", err)
	}
	for _, f := range list {
		r.factors.of[f.UserID]++
	}
	return nil
}

// HasFactor tells whether somebody has a second factor.
func (r *Registry) HasFactor(user policy.UserID) bool {
	r.factors.mu.Lock()
	defer r.factors.mu.Unlock()
	return r.factors.of[string(user)] > 0
}

// Enrolling is a second factor that is being set up: what the program for codes has to be told.
type Enrolling struct {
	Secret string   // in base 32
	URI    string   // otpauth
	Drawn  []string // the same as a code to be read by a camera: rows of 1 for dark and 0 for light
}

// BeginFactor makes the secret of a second factor, which counts once a code of it was proved in the same session.
func (r *Registry) BeginFactor(user policy.UserID, session string) (Enrolling, error) {
	secret := make([]byte, secretBytes)
	rand.Read(secret) // never fails
	now := r.Clock()
	r.factors.mu.Lock()
	for id, e := range r.factors.enrolling {
		if now.Sub(e.at) > enrolmentTime {
			delete(r.factors.enrolling, id)
		}
	}
	full := len(r.factors.enrolling) >= mostEnrolling || r.factors.of[string(user)] >= mostFactors
	if !full {
		r.factors.enrolling[session] = enrolment{secret, now}
	}
	r.factors.mu.Unlock()
	if full {
		return Enrolling{}, translate.Wrong("factors", "are many: take one away first, or come again later")
	}
	text := unpadded.EncodeToString(secret)
	out := Enrolling{Secret: text, URI: "otpauth://totp/" + url.PathEscape("Sentier:"+string(user)) + "?" + url.Values{"secret": {text}, "issuer": {"Sentier"}}.Encode()}
	drawn, err := qr.Encode(out.URI, qr.M, qr.Auto)
	if err != nil {
		return Enrolling{}, fmt.Errorf("draw the code: %w", err)
	}
	size := drawn.Bounds().Dx()
	for y := range size {
		row := make([]byte, size)
		for x := range size {
			row[x] = '0'
			if dark, _, _, _ := drawn.At(x, y).RGBA(); dark == 0 {
				row[x] = '1'
			}
		}
		out.Drawn = append(out.Drawn, string(row))
	}
	return out, nil
}

// ConfirmFactor keeps the second factor that a session has begun, by a code of it; the session is a strong one from then on. With the first of
// a user come recovery codes, which are told once.
func (r *Registry) ConfirmFactor(ctx context.Context, user policy.UserID, session, name, code, address string) (codes []string, err error) {
	try, err := r.Try(string(user), address, true)
	if err != nil {
		return nil, err
	}
	r.factors.mu.Lock()
	e, begun := r.factors.enrolling[session]
	first := r.factors.of[string(user)] == 0
	r.factors.mu.Unlock()
	if !begun || r.Clock().Sub(e.at) > enrolmentTime {
		try.Good()
		return nil, translate.Wrong("code", "belongs to nothing that is being set up: begin again")
	}
	step, ok := r.stepOf(e.secret, code)
	if !ok {
		return nil, translate.Wrong("code", "is not the one that is shown now: look whether the clock of your device is right")
	}
	try.Good()
	id, err := uuid.NewV7()
	if err != nil {
		return nil, err
	}
	f := store.SecondFactor{ID: id.String(), UserID: string(user), Name: name, Kind: store.FactorTOTP, Secret: e.secret, Step: step, CreatedAt: r.Clock()}
	return r.addFactor(ctx, f, session, first)
}

// addFactor keeps a second factor that was proved in a session, which is a strong one from then on. With the first of a user come recovery
// codes.
func (r *Registry) addFactor(ctx context.Context, f store.SecondFactor, session string, first bool) (codes []string, err error) {
	var hashes []store.RecoveryCode
	if first {
		codes, hashes = newRecoveryCodes(f.UserID)
	}
	if err := r.Kept.AddSecondFactor(ctx, f, session, hashes); err != nil {
		return nil, r.Failed(err)
	}
	r.factors.mu.Lock()
	delete(r.factors.enrolling, session)
	r.factors.of[f.UserID]++
	r.factors.mu.Unlock()
	r.strengthen(session)
	r.Made()
	r.Log.Info("second factor set up", "user", f.UserID, "kind", f.Kind)
	return codes, nil
}

// strengthen marks a session as begun with a second factor, as what keeps it has done.
func (r *Registry) strengthen(session string) {
	r.tokens.byHash.Range(func(_, v any) bool {
		t := v.(store.Token)
		if t.ID == session {
			t.Strong = true
			r.tokens.put(t)
		}
		return t.ID != session
	})
}

// stepOf finds the step of which a code is, now or one step away.
func (r *Registry) stepOf(secret []byte, code string) (int64, bool) {
	code = strings.ReplaceAll(code, " ", "")
	now := r.Clock().Unix() / stepSeconds
	for _, step := range []int64{now, now - 1, now + 1} {
		want, err := hotp.GenerateCodeCustom(unpadded.EncodeToString(secret), uint64(step), hotp.ValidateOpts{Digits: codeDigits, Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return step, true
		}
	}
	return 0, false
}

// proveSecond takes a code of any second factor of a user, or one of their recovery codes. None is good twice.
func (r *Registry) proveSecond(ctx context.Context, user, code string) (bool, error) {
	list, err := r.Kept.SecondFactors(ctx, user)
	if err != nil {
		return false, err
	}
	for _, f := range list {
		if f.Kind != store.FactorTOTP {
			continue
		}
		if step, ok := r.stepOf(f.Secret, code); ok {
			spent, err := r.Kept.SpendStep(ctx, f.ID, step)
			if err != nil {
				return false, r.Failed(err)
			}
			if spent {
				return true, nil
			}
		}
	}
	if len(code) < recoveryLength {
		return false, nil
	}
	spent, err := r.Kept.SpendRecoveryCode(ctx, user, recoveryHash(code))
	if err != nil {
		return false, r.Failed(err)
	}
	if spent {
		r.Log.Warn("a recovery code was used", "user", user)
	}
	return spent, nil
}

// recoveryLength is how many letters a recovery code has: 80 bits in base 32.
const recoveryLength = 16

func recoveryHash(code string) []byte {
	sum := sha256.Sum256([]byte("recovery " + strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
	return sum[:]
}

func newRecoveryCodes(user string) (codes []string, hashes []store.RecoveryCode) {
	for range recoveryCodes {
		random := make([]byte, recoveryLength*5/8)
		rand.Read(random) // never fails
		text := unpadded.EncodeToString(random)
		code := text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
		codes, hashes = append(codes, code), append(hashes, store.RecoveryCode{Hash: recoveryHash(code), UserID: user})
	}
	return codes, hashes
}

// NewRecoveryCodes makes recovery codes in the place of those that a user has; they are told once.
func (r *Registry) NewRecoveryCodes(ctx context.Context, user policy.UserID) ([]string, error) {
	codes, hashes := newRecoveryCodes(string(user))
	if err := r.Kept.SetRecoveryCodes(ctx, string(user), hashes); err != nil {
		return nil, r.Failed(err)
	}
	return codes, nil
}

// Factors lists the second factors of a user.
func (r *Registry) Factors(ctx context.Context, user policy.UserID) ([]store.SecondFactor, error) {
	return r.Kept.SecondFactors(ctx, string(user))
}

// DropFactor takes a second factor of a user away; an empty id takes all of them, and ends the user's sessions. The error is [ErrNotFound]
// where there is none.
func (r *Registry) DropFactor(ctx context.Context, user policy.UserID, id string) error {
	at := r.Clock().UTC()
	if err := r.Kept.DropSecondFactor(ctx, string(user), id, at); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return ErrNotFound
		}
		return r.Failed(err)
	}
	r.factors.mu.Lock()
	if r.factors.of[string(user)]--; id == "" || r.factors.of[string(user)] <= 0 {
		delete(r.factors.of, string(user))
	}
	r.factors.mu.Unlock()
	r.Made()
	if id == "" {
		r.revokeCached(at, func(t *store.Token) bool { return t.UserID == string(user) && t.Kind != store.KindToken })
	}
	return nil
}
