package holders

import (
	"context"
	"strings"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
)

// Terms are what people accept before anything about them is public.
type Terms struct {
	Version   int       `json:"version"`
	Text      string    `json:"text"`
	ChangedBy string    `json:"changedBy,omitempty"`
	ChangedAt time.Time `json:"changedAt,omitzero"`
}

const (
	termsSetting = "holder-terms"
	longestTerms = 20_000
)

// usualTerms hold until an institution has its own.
const usualTerms = "What you share can be seen by everybody who has its address: your name as you enter it here, the " +
	"badge, when it was awarded, and the note and evidence with it. Your e-mail address is never shown; " +
	"the badge holds a fingerprint of it, so that somebody who knows your address can see that the badge " +
	"is yours." + "\n\n" +
	"You decide badge by badge, and can take each one back. What others have saved before stays with " +
	"them. If the school revokes or suspends a badge, its page says so." + "\n\n" +
	"You can download your badges at any time, shared or not, and keep them when you leave."

// Terms are those that hold now.
func (s *Service) Terms(ctx context.Context) (t Terms, err error) {
	ok, err := settingstore.FindSetting(ctx, s.Store, termsSetting, &t)
	if err == nil && !ok {
		t = Terms{Version: 1, Text: usualTerms}
	}
	return t, err
}

// SetTerms changes the terms; whoever accepted the former ones is asked again before they share anything more.
func (s *Service) SetTerms(ctx context.Context, who, text string) (Terms, error) {
	was, err := s.Terms(ctx)
	if err != nil {
		return was, err
	}
	text = strings.TrimSpace(strings.ReplaceAll(text, "\r\n", "\n"))
	switch {
	case text == "":
		return was, refusal.Invalid("text", "is missing: people must know what they accept")
	case len(text) > longestTerms:
		return was, refusal.Invalid("text", "is longer than %d bytes", longestTerms)
	case text == was.Text:
		return was, nil
	}
	now := Terms{was.Version + 1, text, who, s.Clock.Now()}
	return now, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, termsSetting, now); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "changed the terms for holders", "setting/"+termsSetting,
			map[string]any{"version": now.Version, "before": was.Text})
	})
}
