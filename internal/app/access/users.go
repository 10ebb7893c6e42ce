package access

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"kanban/internal/adapter/mails"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
)

// TopicUser is the topic of the news that a user is another one than before, or is one no more.
const TopicUser = "user"

// Users lists those who may sign in, by name.
func (s *Service) Users(ctx context.Context) ([]accessstore.User, error) {
	return accessstore.Users(ctx, s.Store)
}

// Draft is what is said of a user; what is nil stays as it is.
type Draft struct {
	Name, Email *string
	PersonID    *string          // who of the register they are; empty for nobody
	Role        *permission.Role // in the whole institution, instead of those that they have there
}

func (d Draft) into(u *accessstore.User) error {
	if d.Name != nil {
		if u.Name = strings.TrimSpace(*d.Name); u.Name == "" || len([]rune(u.Name)) > 200 {
			return refusal.Invalid("name", "must have 1 to 200 characters: it is shown beside what they change")
		}
	}
	if d.Email != nil {
		u.Email = strings.TrimSpace(*d.Email)
		if _, err := roster.AddressKey(u.Email); err != nil {
			return refusal.Invalid("email", "%q is not an e-mail address", u.Email)
		}
	}
	if d.PersonID != nil {
		if u.PersonID = d.PersonID; *d.PersonID == "" {
			u.PersonID = nil
		}
	}
	return nil
}

// Invitation is what came of inviting somebody.
type Invitation struct {
	User   accessstore.User
	Mailed bool   // the link was taken by the mail server
	Link   string // to hand over; empty when it was mailed. It works once and holds for a week.
	Why    string // it was not mailed
}

// Invite makes a user who cannot sign in yet, and mails them the link by which they choose their password. Where no
// mail server takes it, whoever invites is given the link, once.
//
// Without a role they are somebody of the register: a teacher and a learner, by what it says of them.
func (s *Service) Invite(ctx context.Context, c Caller, d Draft, grant *permission.Grant) (Invitation, error) {
	u := accessstore.User{ID: db.NewID(), InvitedBy: c.Name, CreatedAt: time.Now()}
	if grant == nil && (d.PersonID == nil || *d.PersonID == "") {
		return Invitation{}, refusal.Invalid("role", "is missing: give a role, or say who of the register they are")
	}
	if err := s.fromRegister(ctx, &d); err != nil {
		return Invitation{}, err
	}
	for _, text := range []**string{&d.Name, &d.Email} {
		if *text == nil {
			*text = new(string)
		}
	}
	if err := d.into(&u); err != nil {
		return Invitation{}, err
	}
	secret := rand.Text()
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		if err := ownAddress(all, u); err != nil {
			return err
		}
		if err := db.Create(tx, &u, "making the user"); err != nil {
			return err
		}
		if grant != nil {
			if err := s.give(ctx, tx, c, &u, *grant); err != nil {
				return err
			}
		}
		if err := accessstore.Invite(ctx, tx, u.ID, hash(secret), c.Name); err != nil {
			return err
		}
		return s.changed(ctx, tx, c, "invited a user", u)
	})
	if err != nil {
		return Invitation{}, err
	}
	return s.hand(ctx, c, u, secret), nil
}

// hand mails the link of an invitation, or gives it to whoever invited.
func (s *Service) hand(ctx context.Context, c Caller, u accessstore.User, secret string) Invitation {
	link := s.Public + "/invitation?secret=" + secret
	in := Invitation{User: u, Link: link}
	mailer, err := s.Mailer(ctx)
	switch {
	case err != nil:
		in.Why = err.Error()
		return in
	case mailer == nil:
		in.Why = "no mail server is connected"
		return in
	}
	if _, err := mailer.Send(ctx, mails.Mail{
		ID: "invitation-" + hex.EncodeToString(hash(secret)[:8]), To: u.Email, ToName: u.Name,
		Subject: c.Name + " invites you to Kanban",
		Text: fmt.Sprintf("Dear %s,\n\n%s invites you to Kanban%s. Choose your password here:\n%s\n\nThe link works "+
			"once, for a week.\n", u.Name, c.Name, toBe(u), link),
	}); err != nil {
		in.Why = err.Error()
		return in
	}
	return Invitation{User: u, Mailed: true}
}

// ownAddress refuses an address that somebody else signs in with.
func ownAddress(all []accessstore.User, u accessstore.User) error {
	for _, o := range all {
		if o.ID != u.ID && strings.EqualFold(o.Email, u.Email) {
			return refusal.Conflict("", "%s signs in with the address %s already", o.Name, u.Email)
		}
	}
	return nil
}

func (s *Service) changed(ctx context.Context, tx *db.Tx, c Caller, what string, u accessstore.User) error {
	if err := tx.Audit(ctx, c.Name, what, "user/"+u.ID,
		map[string]any{"name": u.Name, "email": u.Email, "roles": described(u)}); err != nil {
		return err
	}
	return tx.Announce(ctx, TopicUser, u.ID)
}

// InviteAgain mails or gives a new link, also to somebody who has forgotten their password; older links are void.
func (s *Service) InviteAgain(ctx context.Context, c Caller, id string) (Invitation, error) {
	secret := rand.Text()
	var u accessstore.User
	err := s.Store.InTx(ctx, func(tx *db.Tx) (err error) {
		if u, err = accessstore.FindUser(ctx, tx, id); err != nil {
			return err
		}
		if err := accessstore.Invite(ctx, tx, id, hash(secret), c.Name); err != nil {
			return err
		}
		return s.changed(ctx, tx, c, "invited a user again", u)
	})
	if err != nil {
		return Invitation{}, err
	}
	return s.hand(ctx, c, u, secret), nil
}

// ChangeUser changes a user's name, address, person of the register or role in the whole institution. There is always
// an administrator who can sign in.
func (s *Service) ChangeUser(ctx context.Context, c Caller, id string, d Draft) (accessstore.User, error) {
	return s.altered(ctx, c, id, "changed a user", func(tx *db.Tx, all []accessstore.User, u *accessstore.User) error {
		if err := d.into(u); err != nil {
			return err
		}
		if err := ownAddress(all, *u); err != nil {
			return err
		}
		if err := s.personThere(ctx, u.PersonID); err != nil {
			return err
		}
		if d.Role != nil {
			if err := s.instead(ctx, tx, c, u, *d.Role); err != nil {
				return err
			}
		}
		return accessstore.ChangeUser(ctx, tx, *u)
	})
}

// alter changes one of all users, whom nobody else changes meanwhile, and says so in the trail and to pages. It
// refuses to leave nobody who can sign in and may say who else may.
func (s *Service) alter(ctx context.Context, c Caller, id, what string,
	do func(tx *db.Tx, all []accessstore.User, u *accessstore.User) error,
) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(o accessstore.User) bool { return o.ID == id })
		if i < 0 {
			return fmt.Errorf("finding the user: %w", db.ErrNotFound)
		}
		if err := do(tx, all, &all[i]); err != nil {
			return err
		}
		if err := somebodyLeft(all); err != nil {
			return err
		}
		return s.changed(ctx, tx, c, what, all[i])
	})
}

// altered is alter, and gives the user as they are then, with the names of what their roles are about.
func (s *Service) altered(ctx context.Context, c Caller, id, what string,
	do func(tx *db.Tx, all []accessstore.User, u *accessstore.User) error,
) (accessstore.User, error) {
	if err := s.alter(ctx, c, id, what, do); err != nil {
		return accessstore.User{}, err
	}
	return accessstore.FindUser(ctx, s.Store, id)
}

// somebodyLeft refuses to leave nobody who can sign in and may say who else may.
func somebodyLeft(all []accessstore.User) error {
	if slices.ContainsFunc(all, func(u accessstore.User) bool {
		return u.PasswordHash != "" && permission.May(u.Granted(), permission.Users)
	}) {
		return nil
	}
	return refusal.Conflict("", "this is the last administrator who can sign in: make somebody else one first")
}

// RemoveUser lets somebody in no more: their sessions and tokens end at once.
func (s *Service) RemoveUser(ctx context.Context, c Caller, id string) error {
	return s.alter(ctx, c, id, "removed a user", func(tx *db.Tx, _ []accessstore.User, u *accessstore.User) error {
		u.PasswordHash = "" // they can sign in no more
		return accessstore.RemoveUser(ctx, tx, id)
	})
}

// Accept spends the link of an invitation, or of a new password: the user has a password from then on, and their
// sessions end. Whoever has one-time codes gives one.
func (s *Service) Accept(ctx context.Context, secret, password string, code Code) (Caller, error) {
	if err := longEnough(password); err != nil {
		return Caller{}, err
	}
	in, err := accessstore.FindInvitation(ctx, s.Store, hash(secret))
	switch {
	case errors.Is(err, db.ErrNotFound):
		return Caller{},
			refusal.Forbidden("this is not the link of an invitation, or a newer one was sent: ask for a new one")
	case err != nil:
		return Caller{}, err
	case in.Used:
		return Caller{},
			refusal.Forbidden("this link was used already; sign in with the password that was chosen then")
	case in.Old && in.Reset:
		return Caller{}, refusal.Forbidden("this link is older than an hour: ask for a new one where you sign in")
	case in.Old:
		return Caller{}, refusal.Forbidden("this link is older than a week: ask for a new one")
	}
	if err := s.spendCode(ctx, in.UserID, code); err != nil {
		return Caller{}, err
	}
	hashed, err := hashOf(ctx, password)
	if err != nil {
		return Caller{}, err
	}
	var u accessstore.User
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := accessstore.UseInvitation(ctx, tx, hash(secret)); err != nil {
			return err
		}
		if err := accessstore.ChoosePassword(ctx, tx, in.UserID, hashed); err != nil {
			return err
		}
		if err := endSessions(ctx, tx, in.UserID, ""); err != nil { // of somebody who had a password before
			return err
		}
		if u, err = accessstore.FindUser(ctx, tx, in.UserID); err != nil {
			return err
		}
		what := "accepted an invitation"
		if in.Reset {
			what = "chose a new password"
		}
		if err := tx.Audit(ctx, u.Name, what, "user/"+u.ID, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, TopicUser, u.ID)
	})
	if errors.Is(err, db.ErrNotFound) {
		return Caller{},
			refusal.Forbidden("this link was used already; sign in with the password that was chosen then")
	}
	c, err := s.caller(ctx, u, err)
	return s.held(ctx, c, err)
}

// ChangePassword lets somebody who knows their password choose another one. All sessions end but the one that is kept
// by a token's hash.
func (s *Service) ChangePassword(ctx context.Context, c Caller, old, password, kept string) error {
	u, err := accessstore.FindUser(ctx, s.Store, c.ID)
	if err != nil {
		return err
	}
	if err := s.sure(ctx, u, "old", old); err != nil {
		return err
	}
	if err := longEnough(password); err != nil {
		return err
	}
	hashed, err := hashOf(ctx, password)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := accessstore.ChoosePassword(ctx, tx, c.ID, hashed); err != nil {
			return err
		}
		if err := endSessions(ctx, tx, c.ID, kept); err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "changed their password", "user/"+c.ID, nil)
	})
}

func longEnough(password string) error {
	if len([]rune(password)) < MinimumPassword {
		return refusal.Invalid("password", "is too short: use at least %d characters", MinimumPassword)
	}
	if len(password) > longestPassword {
		return refusal.Invalid("password", "is too long: use at most %d bytes", longestPassword)
	}
	return nil
}

func hashOf(ctx context.Context, password string) (hashed string, err error) {
	err = costly(ctx, func() (err error) {
		hashed, err = argon2id.CreateHash(password, argon2id.DefaultParams)
		return err
	})
	if err != nil {
		return "", fmt.Errorf("hashing the password: %w", err)
	}
	return hashed, nil
}
