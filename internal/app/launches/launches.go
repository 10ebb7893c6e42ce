// Package launches lets course platforms join as LTI 1.3 says, and opens pages from inside their courses: it finds out
// which platform asks, who opened the link, and which section the course there is about. It never guesses any of them.
//
//	address, browser, err := s.Begin(ctx, lti.LoginOf(r.Form))   // the platform sends a browser here
//	launch, err := s.End(ctx, idToken, state, browser)           // and comes back with it
package launches

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/app/connections"
	"kanban/internal/core/clock"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/lti"
	"kanban/internal/wire/openbadge"
)

// Service is the use case. Use New.
type Service struct {
	Store       *db.Database
	Connections *connections.Service
	// Public is the address of this installation, without a slash at its end.
	Public string
	Clock  clock.Clock

	client   *call.Client
	verifier *lti.Verifier
}

// The addresses at which platforms and browsers come here.
const (
	LoginPath    = "/lti/login"
	LaunchPath   = "/lti/launch"
	KeysPath     = "/lti/keys"
	RegisterPath = "/lti/register/"
)

// New prepares the use case. Calls to platforms end within ten seconds, and no answer is longer than a megabyte.
func New(store *db.Database, c *connections.Service, public string) *Service {
	client := call.New(call.Options{Timeout: 10 * time.Second, Retries: -1, MaxBody: 1 << 20, Detail: lti.RefusalIn})
	return &Service{
		Store: store, Connections: c, Public: public, client: client, verifier: lti.NewVerifier(client.PlainHTTP()),
	}
}

// Refused says why a platform or a launch was refused, in words for whoever sees the page, and what to do.
type Refused struct {
	Detail string
	Remedy string
}

func (e *Refused) Error() string { return e.Detail }

func refuse(remedy, format string, args ...any) error {
	return &Refused{Detail: fmt.Sprintf(format, args...), Remedy: remedy}
}

// explained puts what is wrong with what a platform says into words with a remedy.
func explained(err error) error {
	var failed *lti.Error
	if !errors.As(err, &failed) {
		return err
	}
	remedy := map[lti.Reason]string{
		lti.WrongToken:   "The platform's administrator has to change that; show them this page.",
		lti.WrongClock:   "Open the link again. If it stays so, the clock of one of both machines has to be set.",
		lti.Unreachable:  "Try again in a minute. If it stays so, the platform's administrator has to look.",
		lti.NotSupported: "Open Kanban by a link in a course.",
	}[failed.Why]
	return &Refused{Detail: failed.Detail, Remedy: remedy}
}

func hashed(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

const (
	keyOwner = "tool"
	// keysStay is how long a retired key stays published: longer than anything that it signed is good for.
	keysStay = 24 * time.Hour
)

// KeySet is what platforms read to check what this installation signs (RFC 7517, 5). The first is made when it is
// asked for.
func (s *Service) KeySet(ctx context.Context) (jwk.Set, error) {
	keys, err := launchstore.Keys(ctx, s.Store)
	if err == nil && len(keys) == 0 {
		if err = s.firstKey(ctx); err == nil {
			keys, err = launchstore.Keys(ctx, s.Store)
		}
	}
	if err != nil {
		return nil, err
	}
	set := jwk.NewSet()
	for _, k := range keys {
		if k.RetiredAt != nil && s.Clock.Now().Sub(*k.RetiredAt) > keysStay {
			continue
		}
		text, err := s.Store.Unseal(k.Key, keyOwner)
		if err != nil {
			return nil, err
		}
		private, err := jwk.ParseKey(text)
		if err != nil {
			return nil, fmt.Errorf("reading a key: %w", err)
		}
		public, err := private.PublicKey()
		if err == nil {
			err = set.AddKey(public)
		}
		if err != nil {
			return nil, fmt.Errorf("publishing a key: %w", err)
		}
	}
	return set, nil
}

// RotateKeys signs with a new key from now on. The former one stays published for a day.
func (s *Service) RotateKeys(ctx context.Context, who string) error {
	k, err := s.newKey()
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.ReplaceKey(ctx, tx, k, k.CreatedAt.Add(-keysStay)); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "changed the key for course platforms", "tool-key/"+k.ID, nil)
	})
}

// firstKey makes the first key. Of two at once, one is kept.
func (s *Service) firstKey(ctx context.Context) error {
	k, err := s.newKey()
	if err != nil {
		return err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error { return launchstore.AddKey(ctx, tx, k) })
	if errors.Is(err, db.ErrTaken) {
		return nil
	}
	return err
}

// newKey makes a key, as issuers of badges have them.
func (s *Service) newKey() (k launchstore.Key, err error) {
	key, err := openbadge.NewKey(openbadge.RS256)
	if err != nil {
		return k, err
	}
	k = launchstore.Key{ID: openbadge.ID(key), CreatedAt: s.Clock.Now()}
	text, err := json.Marshal(key)
	if err == nil {
		k.Key, err = s.Store.Seal(text, keyOwner)
	}
	return k, err
}
