package access

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"kanban/internal/adapter/mails"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
)

// atTheSignIn stands in the trail for who asked for something there.
const atTheSignIn = "somebody at the sign-in page"

// Mails reports whether a mail server is connected, so that links can be mailed.
func (s *Service) Mails(ctx context.Context) (bool, error) {
	mailer, err := s.Mailer(ctx)
	return mailer != nil, err
}

// Reset mails the link by which somebody chooses a new password to the address that they sign in with. Nothing is sent
// to an address with which nobody does. Their password and sessions stay until the link is used.
func (s *Service) Reset(ctx context.Context, email string) error {
	u, err := accessstore.UserByEmail(ctx, s.Store, strings.TrimSpace(email))
	if errors.Is(err, db.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	mailer, err := s.Mailer(ctx)
	if err != nil || mailer == nil {
		return errors.Join(errors.New("nobody can be mailed a link: no mail server is connected"), err)
	}
	ways, err := accessstore.ProviderUsers(ctx, s.Store, u.ID)
	if err != nil {
		return err
	}
	if u.PasswordHash == "" && len(ways) > 0 { // whoever lets them in elsewhere decides whether they get in
		_, err := mailer.Send(ctx, mails.Mail{
			ID: "reset-" + hex.EncodeToString(hash(rand.Text())[:8]), To: u.Email, ToName: u.Name,
			Subject: "How you sign in to Kanban",
			Text: fmt.Sprintf("Dear %s,\n\nsomebody, perhaps you, asked for a new password at %s. You have none there: you "+
				"sign in by %s, and its password is changed there.\n", u.Name, s.Public, ways[0].Provider),
		})
		return err
	}
	secret := rand.Text()
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := accessstore.AddReset(ctx, tx, u.ID, hash(secret), atTheSignIn); err != nil {
			return err
		}
		return tx.Audit(ctx, atTheSignIn, "asked for a link to choose a password by", "user/"+u.ID, nil)
	})
	if err != nil {
		return err
	}
	_, err = mailer.Send(ctx, mails.Mail{
		ID: "reset-" + hex.EncodeToString(hash(secret)[:8]), To: u.Email, ToName: u.Name,
		Subject: "Choose a new password for Kanban",
		Text: fmt.Sprintf("Dear %s,\n\nsomebody, perhaps you, asked for a new password at %s. Choose it here:\n%s\n\n"+
			"The link works once, for an hour. If it was not you, there is nothing to do: your password stays.\n",
			u.Name, s.Public, s.Public+"/invitation?secret="+secret),
	})
	return err
}
