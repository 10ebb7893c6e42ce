package access

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
)

// ErrCodeNeeded means that the password is right and a one-time code is missing; ErrCode that it is not right, or was
// used already.
var (
	ErrCodeNeeded = errors.New("a one-time code is needed too: the one that your app shows now, or a recovery code")
	ErrCode       = errors.New("the code is not right, or was used already: take the one that your app shows now")
)

const (
	// codesOwner is for whom the secrets of codes are sealed.
	codesOwner = "one-time-codes/"
	// codePeriod is how long a code is shown, in seconds, and codeSkew how many of those the clocks of app and service
	// may differ by (RFC 6238, 5.2).
	codePeriod = 30
	codeSkew   = 1
	// recoveryCodes is how many are given out.
	recoveryCodes = 10
)

// codeForm is what apps understand without being told otherwise.
var codeForm = totp.ValidateOpts{Period: codePeriod, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// NewCodes is what an app is told that shows somebody's codes.
type NewCodes struct {
	Secret  string // in base32
	Address string // otpauth://totp/…, as apps read it off a picture
}

// CodesState says how it stands with somebody's codes.
type CodesState struct {
	OnSince      *time.Time
	RecoveryLeft int
	Required     bool // by a role that they have
}

// signInSetting keeps SignInSettings.
const signInSetting = "sign-in"

// SignInSettings are what holds for everybody who signs in.
type SignInSettings struct {
	CodesRequired []permission.Role `json:"codesRequired"` // roles that need one-time codes
}

// SignInSettings gives them.
func (s *Service) SignInSettings(ctx context.Context) (out SignInSettings, err error) {
	_, err = settingstore.FindSetting(ctx, s.Store, signInSetting, &out)
	return out, err
}

// EditSignInSettings keeps them. Whoever has a role that needs codes, and none, sets them up before anything else.
func (s *Service) EditSignInSettings(ctx context.Context, c Caller, set SignInSettings) error {
	for _, r := range set.CodesRequired {
		if !r.Known() {
			return refusal.Invalid("codesRequired", "%q is no role", r)
		}
	}
	slices.Sort(set.CodesRequired)
	set.CodesRequired = slices.Compact(set.CodesRequired)
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, signInSetting, set); err != nil {
			return err
		}
		all, err := accessstore.Users(ctx, tx)
		for _, u := range all { // pages that listen ask again what they may
			if err == nil {
				err = tx.Announce(ctx, TopicUser, u.ID)
			}
		}
		if err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "changed how people sign in", "settings/sign-in", set)
	})
}

// required reports whether a role that somebody has needs codes.
func (s SignInSettings) required(c Caller) bool {
	return slices.ContainsFunc(c.Grants, func(g permission.Grant) bool {
		return slices.Contains(s.CodesRequired, g.Role)
	})
}

// ByPassword finds a caller that signed in with a password before. Whoever has a role that needs codes, and none, may
// nothing but set them up.
func (s *Service) ByPassword(ctx context.Context, id string) (Caller, error) {
	c, err := s.ByID(ctx, id)
	return s.held(ctx, c, err)
}

// held takes everything from a caller who came with a password, has a role that needs codes, and has none.
func (s *Service) held(ctx context.Context, c Caller, err error) (Caller, error) {
	if err != nil {
		return c, err
	}
	set, err := s.SignInSettings(ctx)
	if err != nil || !set.required(c) {
		return c, err
	}
	on, err := s.codesOf(ctx, s.Store, c.ID)
	if err == nil && on.OnSince == nil {
		c.CodesNeeded, c.Grants = true, nil
	}
	return c, err
}

// codesOf gives somebody's codes, empty ones when they have none.
func (s *Service) codesOf(ctx context.Context, from db.From, id string) (accessstore.Codes, error) {
	c, err := accessstore.FindCodes(ctx, from, id)
	if errors.Is(err, db.ErrNotFound) {
		return accessstore.Codes{}, nil
	}
	return c, err
}

// WithCodes gives the ids of the users who sign in with one-time codes.
func (s *Service) WithCodes(ctx context.Context) (map[string]bool, error) {
	return accessstore.WithCodes(ctx, s.Store)
}

// Codes says how it stands with a caller's own.
func (s *Service) Codes(ctx context.Context, c Caller) (CodesState, error) {
	set, err := s.SignInSettings(ctx)
	if err != nil {
		return CodesState{}, err
	}
	have, err := s.codesOf(ctx, s.Store, c.ID)
	return CodesState{have.OnSince, have.RecoveryLeft, c.CodesNeeded || set.required(c)}, err
}

// BeginCodes gives what an app has to be told, to somebody who knows their password. They are on once a code was
// right.
func (s *Service) BeginCodes(ctx context.Context, c Caller, password string) (NewCodes, error) {
	u, err := accessstore.FindUser(ctx, s.Store, c.ID)
	switch {
	case err != nil:
		return NewCodes{}, err
	case u.PasswordHash == "":
		return NewCodes{}, refusal.Conflict("", "you have no password here: whoever lets you in asks for codes")
	}
	if err := s.sure(ctx, u, "password", password); err != nil {
		return NewCodes{}, err
	}
	at, err := url.Parse(s.Public)
	if err != nil {
		return NewCodes{}, fmt.Errorf("naming the service: %w", err)
	}
	key, err := totp.Generate(totp.GenerateOpts{
		Issuer: "Kanban " + strings.ReplaceAll(at.Host, ":", " "), AccountName: u.Email, Period: codePeriod,
		Digits: codeForm.Digits, Algorithm: codeForm.Algorithm, SecretSize: 20,
	})
	if err != nil {
		return NewCodes{}, fmt.Errorf("making one-time codes: %w", err)
	}
	sealed, err := s.Store.Seal([]byte(key.Secret()), codesOwner+c.ID)
	if err != nil {
		return NewCodes{}, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error { return accessstore.BeginCodes(ctx, tx, c.ID, sealed) })
	if errors.Is(err, db.ErrTaken) {
		err = refusal.Conflict("", "your one-time codes are on already: end them first")
	}
	return NewCodes{key.Secret(), key.URL()}, err
}

// sure checks the password of somebody who is signed in already.
func (s *Service) sure(ctx context.Context, u accessstore.User, field, password string) error {
	if _, err := s.known(ctx, u.Email, password); errors.Is(err, ErrUnknown) {
		return refusal.Invalid(field, "is not your password")
	} else if err != nil {
		return err
	}
	return nil
}

// ConfirmCodes turns a caller's codes on by the first that is right, and gives the recovery codes, which are not shown
// again.
func (s *Service) ConfirmCodes(ctx context.Context, c Caller, code string) ([]string, error) {
	return s.withCodes(ctx, c, "set up one-time codes", func(tx *db.Tx, have accessstore.Codes) ([]string, error) {
		if have.OnSince != nil {
			return nil, refusal.Conflict("", "your one-time codes are on already")
		}
		if err := s.takeCode(ctx, tx, have, code); err != nil {
			return nil, wrongCode(err)
		}
		return newRecoveryCodes(ctx, tx, c.ID)
	})
}

// RecoveryCodes gives a caller new recovery codes in place of those that they had.
func (s *Service) RecoveryCodes(ctx context.Context, c Caller, code string) ([]string, error) {
	return s.withCodes(ctx, c, "made new recovery codes", func(tx *db.Tx, have accessstore.Codes) ([]string, error) {
		if err := s.takeCode(ctx, tx, have, code); err != nil {
			return nil, wrongCode(err)
		}
		return newRecoveryCodes(ctx, tx, c.ID)
	})
}

// EndCodes ends a caller's own: they sign in with the password alone from then on.
func (s *Service) EndCodes(ctx context.Context, c Caller, code string) error {
	_, err := s.withCodes(ctx, c, "ended their one-time codes", func(tx *db.Tx, have accessstore.Codes) ([]string, error) {
		if err := s.takeCode(ctx, tx, have, code); err != nil {
			return nil, wrongCode(err)
		}
		_, err := accessstore.RemoveCodes(ctx, tx, c.ID)
		return nil, err
	})
	return err
}

// EndCodesOf ends those of somebody else, who has lost the app and the recovery codes.
func (s *Service) EndCodesOf(ctx context.Context, c Caller, id string) error {
	return s.alter(ctx, c, id, "ended a user's one-time codes",
		func(tx *db.Tx, _ []accessstore.User, u *accessstore.User) error {
			there, err := accessstore.RemoveCodes(ctx, tx, id)
			if err == nil && !there {
				return refusal.Conflict("", "%s has no one-time codes", u.Name)
			}
			return err
		})
}

// wrongCode says so of the field in which a code was given.
func wrongCode(err error) error {
	if errors.Is(err, ErrCode) || errors.Is(err, ErrCodeNeeded) {
		return refusal.Invalid("code", "%v", err)
	}
	return err
}

// withCodes does something to a caller's codes, which nobody else changes meanwhile, and says so in the trail.
func (s *Service) withCodes(ctx context.Context, c Caller, what string,
	do func(*db.Tx, accessstore.Codes) ([]string, error),
) (out []string, err error) {
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		have, err := accessstore.LockCodes(ctx, tx, c.ID)
		if errors.Is(err, db.ErrNotFound) {
			return refusal.Conflict("", "you have not begun to set up one-time codes")
		}
		if err == nil {
			out, err = do(tx, have)
		}
		if err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, what, "user/"+c.ID, nil)
	})
	return out, err
}

// Code is a one-time code, or a recovery code, with which somebody tries to get in.
type Code struct {
	Text string
	// Admit refuses too many tries. It is asked only when all else is right, so that nobody can use up anybody else's.
	Admit func() error
}

// spendCode takes the code of somebody who signs in and whose codes are on.
func (s *Service) spendCode(ctx context.Context, userID string, code Code) error {
	have, err := s.codesOf(ctx, s.Store, userID)
	if err != nil || have.OnSince == nil {
		return err
	}
	if strings.TrimSpace(code.Text) == "" {
		return ErrCodeNeeded
	}
	if code.Admit != nil {
		if err := code.Admit(); err != nil {
			return err
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		locked, err := accessstore.LockCodes(ctx, tx, userID)
		if errors.Is(err, db.ErrNotFound) { // ended just now
			return nil
		}
		if err != nil {
			return err
		}
		return s.takeCode(ctx, tx, locked, code.Text)
	})
}

// takeCode takes a code that is shown now or was a period ago, once, or a recovery code, once.
func (s *Service) takeCode(ctx context.Context, tx *db.Tx, have accessstore.Codes, code string) error {
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if code == "" {
		return ErrCodeNeeded
	}
	now := s.Clock.Now()
	if len(code) != codeForm.Digits.Length() {
		if have.OnSince == nil {
			return ErrCode
		}
		err := accessstore.UseRecoveryCode(ctx, tx, have.UserID, hash(code), now)
		if errors.Is(err, db.ErrNotFound) {
			return ErrCode
		}
		return err
	}
	secret, err := s.Store.Unseal(have.Sealed, codesOwner+have.UserID)
	if err != nil {
		return err
	}
	for step := now.Unix()/codePeriod - codeSkew; step <= now.Unix()/codePeriod+codeSkew; step++ {
		right, err := totp.GenerateCodeCustom(string(secret), time.Unix(step*codePeriod, 0), codeForm)
		if err != nil {
			return fmt.Errorf("making a one-time code: %w", err)
		}
		if step > have.LastStep && subtle.ConstantTimeCompare([]byte(right), []byte(code)) == 1 {
			return accessstore.TakeCode(ctx, tx, have.UserID, step, now)
		}
	}
	return ErrCode
}

// newRecoveryCodes makes recovery codes in place of those that somebody had.
func newRecoveryCodes(ctx context.Context, tx *db.Tx, userID string) ([]string, error) {
	codes, hashes := make([]string, recoveryCodes), make([][]byte, recoveryCodes)
	for i := range codes {
		random := make([]byte, 10)
		if _, err := rand.Read(random); err != nil {
			return nil, fmt.Errorf("making recovery codes: %w", err)
		}
		text := strings.ToLower(base32.StdEncoding.EncodeToString(random)) // 16 characters
		codes[i], hashes[i] = text[:4]+"-"+text[4:8]+"-"+text[8:12]+"-"+text[12:], hash(text)
	}
	return codes, accessstore.KeepRecoveryCodes(ctx, tx, userID, hashes)
}
