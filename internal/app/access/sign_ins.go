package access

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
)

// Sessions lists where a caller is signed in, the latest used first.
func (s *Service) Sessions(ctx context.Context, c Caller) ([]accessstore.Session, error) {
	return accessstore.Sessions(ctx, s.Store, c.ID)
}

// TopicSignedOut is the topic of the news that a session or a token has ended; the id is the hash of what is held of
// it, in hexadecimal digits.
const TopicSignedOut = "signed-out"

// EndOwnSession ends one session of a caller.
func (s *Service) EndOwnSession(ctx context.Context, c Caller, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		ended, err := accessstore.EndSession(ctx, tx, c.ID, id)
		if err != nil {
			return err
		}
		if err := tellEnded(ctx, tx, ended); err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "ended a session", "user/"+c.ID, map[string]string{"agent": ended.Agent})
	})
}

// endSessions ends all sessions of a user but the one that is kept by a token's hash.
func endSessions(ctx context.Context, tx *db.Tx, userID, kept string) error {
	ended, err := accessstore.EndOtherSessions(ctx, tx, userID, kept)
	if err != nil {
		return err
	}
	return tellEnded(ctx, tx, ended...)
}

// tellEnded tells pages that listen under sessions that they are over, whichever process they are at.
func tellEnded(ctx context.Context, tx *db.Tx, sessions ...accessstore.Session) error {
	for _, s := range sessions {
		held, err := base64.RawURLEncoding.DecodeString(s.Token)
		if err != nil {
			return fmt.Errorf("reading the hash of a session: %w", err)
		}
		if err := tx.Announce(ctx, TopicSignedOut, hex.EncodeToString(held)); err != nil {
			return err
		}
	}
	return nil
}

// Tokens lists a caller's own, the latest made first.
func (s *Service) Tokens(ctx context.Context, c Caller) ([]accessstore.APIToken, error) {
	return accessstore.Tokens(ctx, s.Store, c.ID)
}

// EndOwnToken ends one token of a caller: nobody gets in with it any more.
func (s *Service) EndOwnToken(ctx context.Context, c Caller, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		hash, err := accessstore.RemoveToken(ctx, tx, c.ID, id)
		if err != nil {
			return err
		}
		if err := tx.Announce(ctx, TopicSignedOut, hex.EncodeToString(hash)); err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "ended an API token", "token/"+id, nil)
	})
}

// Recovered is whom somebody at the machine lets back in.
type Recovered struct {
	Email string
	Name  string // of somebody who is to be made, when nobody has the address
	// Administrator gives them that role too.
	Administrator bool
	EndCodes      bool // ends their one-time codes too
}

// atTheMachine stands in the trail for who did something there.
const atTheMachine = "somebody at the machine"

// Recover gives the link by which a user chooses a new password, for whoever is at the machine on which the service
// runs; older links are void. Their password and sessions stay until the link is used.
func (s *Service) Recover(ctx context.Context, r Recovered) (Invitation, error) {
	secret, c := rand.Text(), Caller{
		Name: atTheMachine, Rights: permission.Rights{Grants: permission.Everywhere(permission.Administrator)},
	}
	var u accessstore.User
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(o accessstore.User) bool {
			return strings.EqualFold(o.Email, strings.TrimSpace(r.Email))
		})
		switch {
		case i >= 0:
			u = all[i]
		case r.Name == "" || !r.Administrator:
			return refusal.Invalid("email", "is nobody's who may sign in; those who may say who may are %s",
				administrators(all))
		default:
			u = accessstore.User{ID: db.NewID(), InvitedBy: c.Name, CreatedAt: time.Now()}
			if err := (Draft{Name: &r.Name, Email: &r.Email}).into(&u); err != nil {
				return err
			}
			if err := db.Create(tx, &u, "making the user"); err != nil {
				return err
			}
		}
		if r.Administrator {
			if err := s.instead(ctx, tx, c, &u, permission.Administrator); err != nil {
				return err
			}
		}
		if r.EndCodes {
			if _, err := accessstore.RemoveCodes(ctx, tx, u.ID); err != nil {
				return err
			}
		}
		if err := accessstore.Invite(ctx, tx, u.ID, hash(secret), c.Name); err != nil {
			return err
		}
		return s.changed(ctx, tx, c, "let a user in again", u)
	})
	return Invitation{User: u, Link: s.Public + "/invitation?secret=" + secret}, err
}

// administrators names those who may say who else may sign in.
func administrators(all []accessstore.User) string {
	var addresses []string
	for _, u := range all {
		if permission.May(u.Granted(), permission.Users) {
			addresses = append(addresses, u.Email)
		}
	}
	if len(addresses) == 0 {
		return "nobody yet"
	}
	return strings.Join(addresses, ", ")
}
