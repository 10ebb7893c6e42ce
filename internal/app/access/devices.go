package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math/big"
	"strings"
	"time"
	"unicode"

	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
)

// What a program is answered that asks whether somebody has allowed it by now, as RFC 8628, 3.5, names it.
var (
	ErrPending  = errors.New("authorization_pending")
	ErrSlowDown = errors.New("slow_down")
	ErrDenied   = errors.New("access_denied")
	ErrExpired  = errors.New("expired_token")
	ErrNoGrant  = errors.New("invalid_grant")
)

const (
	// deviceLasts is how long somebody may take to allow a program, and pollEvery how long it waits between two
	// questions, in seconds.
	deviceLasts = 15 * time.Minute
	pollEvery   = 5
	// userCodeLetters are those of RFC 8628, 6.1: no vowels, so that no words come about, and none that look alike.
	userCodeLetters = "BCDFGHJKLMNPQRSTVWXZ"
	userCodeLength  = 8
	// deviceTokenDays is after how many days a token ends that a program got in this way.
	deviceTokenDays = 90
	// longestDeviceName bounds what a program says of itself, in characters.
	longestDeviceName = 100
)

// Device is a program that asks to be allowed.
type Device struct {
	Name, Agent, Address string
}

// DeviceBegun is what a program needs to be allowed.
type DeviceBegun struct {
	DeviceCode string        // by which it asks whether it was
	UserCode   string        // which somebody enters
	Lasts      time.Duration // until both end
	Every      time.Duration // between two questions
}

// BeginDevice lets a program ask for a token (RFC 8628, 3.1).
func (s *Service) BeginDevice(ctx context.Context, d Device) (DeviceBegun, error) {
	d.Name = strings.Map(func(r rune) rune { // what would hide or turn around the rest is left out
		if unicode.IsPrint(r) || unicode.IsSpace(r) {
			return r
		}
		return -1
	}, strings.ToValidUTF8(d.Name, ""))
	if d.Name = strings.Join(strings.Fields(d.Name), " "); d.Name == "" {
		d.Name = "a program that does not say what it is"
	}
	if name := []rune(d.Name); len(name) > longestDeviceName {
		d.Name = string(name[:longestDeviceName])
	}
	secret, now := rand.Text()+rand.Text(), s.Clock.Now()
	one := accessstore.DeviceRequest{
		DeviceHash: hash(secret), Name: d.Name, Agent: d.Agent, Address: d.Address, AskedAt: now,
		ExpiresAt: now.Add(deviceLasts), Every: pollEvery,
	}
	for tries := 3; ; tries-- {
		code, err := userCode()
		if err != nil {
			return DeviceBegun{}, err
		}
		one.UserCode = code
		err = s.Store.InTx(ctx, func(tx *db.Tx) error { return accessstore.AddDeviceRequest(ctx, tx, &one) })
		if errors.Is(err, db.ErrTaken) && tries > 0 {
			continue
		}
		return DeviceBegun{secret, shownCode(one.UserCode), deviceLasts, pollEvery * time.Second}, err
	}
}

func userCode() (string, error) {
	code := make([]byte, userCodeLength)
	for i := range code {
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(userCodeLetters))))
		if err != nil {
			return "", fmt.Errorf("making a code: %w", err)
		}
		code[i] = userCodeLetters[n.Int64()]
	}
	return string(code), nil
}

// shownCode is a user code as people read it.
func shownCode(code string) string { return code[:userCodeLength/2] + "-" + code[userCodeLength/2:] }

// enteredCode is a user code out of what somebody entered (RFC 8628, 6.1): case and marks do not count.
func enteredCode(text string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(userCodeLetters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(text))
}

// DeviceAsk is what somebody is asked to allow.
type DeviceAsk struct {
	Device
	Code    string
	AskedAt time.Time
	Days    int // until the token ends that it would get
}

// noDevice is what somebody is told whose code leads nowhere.
const noDevice = "no program waits with this code: it was mistyped, was answered already, or is older than 15 minutes"

// FindDevice says which program asks with a code.
func (s *Service) FindDevice(ctx context.Context, code string) (DeviceAsk, error) {
	d, err := accessstore.FindDeviceRequest(ctx, s.Store, enteredCode(code), s.Clock.Now())
	if errors.Is(err, db.ErrNotFound) {
		return DeviceAsk{}, refusal.Invalid("code", noDevice)
	}
	if err != nil {
		return DeviceAsk{}, err
	}
	return DeviceAsk{Device{d.Name, d.Agent, d.Address}, shownCode(d.UserCode), d.AskedAt, deviceTokenDays}, nil
}

// AnswerDevice lets a program have a token of the caller's, or refuses it.
func (s *Service) AnswerDevice(ctx context.Context, c Caller, code string, allow bool) error {
	if c.CodesNeeded || c.Limit != nil {
		return refusal.Forbidden("you cannot let a program in before you may everything yourself")
	}
	d, err := s.FindDevice(ctx, code)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		err := accessstore.AnswerDeviceRequest(ctx, tx, enteredCode(code), c.ID, allow, s.Clock.Now())
		if errors.Is(err, db.ErrNotFound) {
			return refusal.Invalid("code", noDevice)
		}
		if err != nil {
			return err
		}
		what := "refused a program"
		if allow {
			what = "let a program in"
		}
		return tx.Audit(ctx, c.Name, what, "user/"+c.ID, map[string]string{"name": d.Name, "address": d.Address})
	})
}

// DeviceToken gives a program its token, once, when somebody has allowed it (RFC 8628, 3.4 and 3.5); lasts is until it
// ends.
func (s *Service) DeviceToken(ctx context.Context, deviceCode string) (token string, lasts time.Duration, err error) {
	var answer error // what is noted on the way is kept
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		now := s.Clock.Now()
		d, err := accessstore.LockDeviceRequest(ctx, tx, hash(deviceCode))
		switch {
		case errors.Is(err, db.ErrNotFound):
			answer = ErrNoGrant
			return nil
		case err != nil:
			return err
		case !d.ExpiresAt.After(now):
			answer = ErrExpired
			return nil
		case d.UserID == nil:
			if answer = ErrPending; d.PolledAt != nil &&
				now.Before(d.PolledAt.Add(time.Duration(d.Every)*time.Second)) {
				answer, d.Every = ErrSlowDown, d.Every+pollEvery
			}
			return accessstore.NotePoll(ctx, tx, d.DeviceHash, now, d.Every)
		case !d.Allowed:
			answer = ErrDenied
			return accessstore.RemoveDeviceRequest(ctx, tx, d.DeviceHash)
		}
		u, err := accessstore.FindUser(ctx, tx, *d.UserID)
		if err != nil {
			return err
		}
		draft := TokenDraft{Name: d.Name, Days: deviceTokenDays}
		if token, err = s.makeToken(ctx, tx, Caller{ID: u.ID, Name: u.Name}, draft); err != nil {
			return err
		}
		return accessstore.RemoveDeviceRequest(ctx, tx, d.DeviceHash)
	})
	if err == nil {
		err = answer
	}
	return token, deviceTokenDays * 24 * time.Hour, err
}
