package runs

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/adapter/mails"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/reachstore"
	"kanban/internal/store/runstore"
)

// namedInMail is how many people a mail names; the page behind its link has all.
const namedInMail = 12

// askApproval sends every administrator a mail about removals above the guard,
// with a link to approve them. The same number is announced once. Without a mail
// interface the finding on the board has to do.
func (s *Service) askApproval(ctx context.Context, p pairingstore.Pairing, preview pairingstore.Preview) error {
	removals, _ := preview.Plan.GuardTripped(p.Policy)
	if removals == p.GuardNotified {
		return nil
	}
	mailer, err := s.Mailer(ctx)
	if err != nil || mailer == nil {
		return err
	}
	all, err := accessstore.Users(ctx, s.Store)
	if err != nil {
		return err
	}
	if all, err = s.approvers(ctx, all, p.ID); err != nil {
		return err
	}
	mailed, failed := p.GuardMailed, false
	if mailed.For != removals {
		mailed = pairingstore.GuardMails{For: removals}
	}
	for _, a := range all {
		if slices.Contains(mailed.To, a.ID) {
			continue // told already, when somebody else's mail failed
		}
		token := rand.Text()
		hash := sha256.Sum256([]byte(token))
		if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			approval := accessstore.Approval{
				TokenHash: hash[:], PairingID: p.ID, UserID: a.ID,
				CreatedAt: s.Clock.Now(),
			}
			return db.Create(tx, &approval, "keeping the approval's link")
		}); err != nil {
			return err
		}
		m := mails.Mail{
			ID: "approval-" + hex.EncodeToString(hash[:8]), To: a.Email, ToName: a.Name,
			Subject: fmt.Sprintf("%d people would be taken out of %s", removals, p.TargetName), Text: s.letter(a, p,
				preview.Plan, removals, token),
		}
		if _, err := mailer.Send(ctx, m); err != nil {
			failed = true // the board says it too; the next comparison tries again
			continue
		}
		mailed.To = append(mailed.To, a.ID)
		if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			return pairingstore.KeepGuardMails(ctx, tx, p.ID,
				mailed)
		}); err != nil {
			return err
		}
	}
	if failed {
		return nil
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return pairingstore.KeepGuardNotified(ctx, tx, p.ID, removals) })
}

func (s *Service) letter(a accessstore.User, p pairingstore.Pairing, plan roster.Plan, removals int,
	token string,
) string {
	var names []string
	for _, e := range plan.Entries {
		if e.Outcome == roster.OutcomeRemove {
			names = append(names, "  "+e.Name)
		}
	}
	if len(names) > namedInMail {
		names = append(names[:namedInMail], fmt.Sprintf("  and %d more", len(names)-namedInMail))
	}
	return fmt.Sprintf("Dear %s,\n\nthe register says that %d people left %s. That is more than its guard allows without approval, so they stay where they are for now:\n\n%s\n\nEverything else has been brought in step. If it is right, approve it here; if it is not, mend it in the register:\n%s/approvals/%s\n\nThe link works once, for a week.\n",
		a.Name, removals, p.TargetName, strings.Join(names, "\n"), s.Public, token)
}

// approvers leaves of users those who may sign in and say what the pairing does.
func (s *Service) approvers(ctx context.Context, all []accessstore.User, pairingID string) (may []accessstore.User,
	err error,
) {
	sections, err := reachstore.SectionsOf(ctx, s.Store, permission.OfPairing, pairingID)
	if err != nil {
		return nil, err
	}
	for _, u := range all {
		reach, err := reachstore.Reach(ctx, s.Store, permission.Rights{Grants: u.Granted()}, permission.Rosters)
		if err != nil {
			return nil, err
		}
		if u.PasswordHash != "" && reach.CoversEach(sections) {
			may = append(may, u)
		}
	}
	return may, nil
}

// stillMay refuses somebody who was asked, and whose role does not allow it any more.
func (s *Service) stillMay(ctx context.Context, u accessstore.User, pairingID string) error {
	may, err := s.approvers(ctx, []accessstore.User{u}, pairingID)
	if err == nil && len(may) == 0 {
		return refusal.Forbidden("your role does not allow this any more")
	}
	return err
}

// Asked is what somebody with a link from a mail may approve.
type Asked struct {
	Approval accessstore.Approval
	User     accessstore.User
	Pairing  pairingstore.Pairing
	Preview  pairingstore.Preview
	Removals []roster.Entry
}

// Approvable compares now and gives what a link from a mail is about. A link that
// was used, or that is too old, is ErrNotFound.
func (s *Service) Approvable(ctx context.Context, token string) (x Asked, err error) {
	hash := sha256.Sum256([]byte(token))
	if x.Approval, err = accessstore.FindApproval(ctx, s.Store, hash[:]); err != nil {
		return x, err
	}
	if x.User, err = accessstore.FindUser(ctx, s.Store, x.Approval.UserID); err != nil {
		return x, err
	}
	if err := s.stillMay(ctx, x.User, x.Approval.PairingID); err != nil {
		return x, err
	}
	if x.Preview, err = s.Preview(ctx, x.Approval.PairingID); err != nil {
		return x, err
	}
	if x.Pairing, err = pairingstore.FindPairing(ctx, s.Store, x.Approval.PairingID); err != nil {
		return x, err
	}
	for _, e := range x.Preview.Plan.Entries {
		if e.Outcome == roster.OutcomeRemove {
			x.Removals = append(x.Removals, e)
		}
	}
	return x, nil
}

// Approve starts the run of exactly the preview that was shown behind a link.
func (s *Service) Approve(ctx context.Context, token, previewID string) (runstore.Run, error) {
	hash := sha256.Sum256([]byte(token))
	a, err := accessstore.FindApproval(ctx, s.Store, hash[:])
	if err != nil {
		return runstore.Run{}, err
	}
	who, err := accessstore.FindUser(ctx, s.Store, a.UserID)
	if err != nil {
		return runstore.Run{}, err
	}
	if err := s.stillMay(ctx, who, a.PairingID); err != nil {
		return runstore.Run{}, err
	}
	preview, err := pairingstore.FindPreview(ctx, s.Store, previewID)
	if errors.Is(err, db.ErrNotFound) || err == nil && preview.PairingID != a.PairingID {
		return runstore.Run{}, refusal.Invalid("preview",
			"is not the one that this link is about; open the link again")
	}
	if err != nil {
		return runstore.Run{}, err
	}
	r, err := s.Start(ctx, who.Name+", by mail", previewID, true)
	if err != nil {
		return r, err
	}
	return r, s.Store.InTx(ctx, func(tx *db.Tx) error { return accessstore.UseApproval(ctx, tx, a) })
}
