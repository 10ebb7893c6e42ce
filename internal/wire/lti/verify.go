package lti

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"

	"kanban/internal/wire/call"
)

// Reason is why a message is not believed.
type Reason string

// The reasons.
const (
	WrongToken   Reason = "wrong-token"   // the platform has to change something
	WrongClock   Reason = "wrong-clock"   // one of both clocks is wrong, or the message is old
	Unreachable  Reason = "unreachable"   // the platform's keys cannot be read
	NotSupported Reason = "not-supported" // a kind of message that is not understood
)

// Error is a message that is not believed, in words for whoever minds the platform.
type Error struct {
	Why    Reason
	Detail string
}

func (e *Error) Error() string { return e.Detail }

func failed(why Reason, format string, args ...any) error {
	return &Error{why, fmt.Sprintf(format, args...)}
}

// longestToken bounds an ID token, in bytes.
const longestToken = 64 << 10

// algorithms are those with which platforms sign: none that a client could imitate (1EdTech Security Framework 1.0,
// 5.1.3).
var algorithms = []string{oidc.RS256, oidc.RS384, oidc.RS512, oidc.ES256, oidc.ES384, oidc.ES512, oidc.PS256}

// Verifier checks messages. It keeps the platforms' keys, and reads them again when a message names one that it
// does not know. It is safe for concurrent use; use NewVerifier.
type Verifier struct {
	client *http.Client
	mu     sync.Mutex
	keys   map[string]*oidc.RemoteKeySet
}

// NewVerifier prepares one. The client reads keys: it bounds time and size.
func NewVerifier(client *http.Client) *Verifier {
	return &Verifier{client: client, keys: map[string]*oidc.RemoteKeySet{}}
}

func (v *Verifier) keysAt(address string) *oidc.RemoteKeySet {
	v.mu.Lock()
	defer v.mu.Unlock()
	k := v.keys[address]
	if k == nil {
		k = oidc.NewRemoteKeySet(oidc.ClientContext(context.Background(), v.client), address)
		v.keys[address] = k
	}
	return k
}

// Verify checks an ID token of a platform (1EdTech Security Framework 1.0, 5.1.3; LTI Core 1.3, 5.3): signature,
// whom it is for, its times, and that it answers the login with this nonce. Whether the deployment is known is for
// the caller.
func (v *Verifier) Verify(ctx context.Context, p Platform, raw, nonce string, now time.Time) (m Message, err error) {
	switch {
	case raw == "":
		return m, failed(WrongToken, "no id_token came back")
	case len(raw) > longestToken:
		return m, failed(WrongToken, "its id_token has more than %d bytes", longestToken)
	}
	check := oidc.NewVerifier(p.Issuer, v.keysAt(p.Keys), &oidc.Config{
		ClientID: p.ClientID, SupportedSigningAlgs: algorithms, Now: func() time.Time { return now.Add(-skew) },
	})
	token, err := check.Verify(ctx, raw)
	if err != nil {
		return m, v.explained(ctx, p, err, now)
	}
	if err := token.Claims(&m); err != nil {
		return m, failed(WrongToken, "its id_token cannot be read: %s", shortened(err.Error()))
	}
	return m, m.check(p, token, nonce, now)
}

// explained says why the library does not believe a token.
func (v *Verifier) explained(ctx context.Context, p Platform, err error, now time.Time) error {
	var expired *oidc.TokenExpiredError
	text := err.Error()
	switch {
	case errors.As(err, &expired):
		return failed(WrongClock, "its id_token ended at %s, and it is %s here: open the link again; if that does not help, "+
			"one of the clocks is wrong", expired.Expiry.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	case ctx.Err() != nil || strings.Contains(text, "fetching keys"):
		return failed(Unreachable, "its keys cannot be read at %s: %s", p.Keys, shortened(text))
	}
	return failed(WrongToken, "its id_token cannot be believed: %s", shortened(text))
}

// check is what the standard asks beyond signature, issuer, audience and end.
func (m *Message) check(p Platform, token *oidc.IDToken, nonce string, now time.Time) error {
	others := slices.DeleteFunc(slices.Clone(m.Audience), func(x string) bool { return x == p.ClientID })
	switch {
	case m.Party != "" && m.Party != p.ClientID:
		return failed(WrongToken, "its id_token was made for another client (azp is %q)", shortened(m.Party))
	case len(others) > 0 && m.Party == "":
		return failed(WrongToken, "its id_token is for other clients too, and does not say for which it was made (azp is missing)")
	case len(others) > 0:
		return failed(WrongToken, "its id_token is for other clients too: %s", shortened(strings.Join(others, ", ")))
	case token.IssuedAt.IsZero() || token.IssuedAt.Before(now.Add(-oldest)) || token.IssuedAt.After(now.Add(skew)):
		return failed(WrongClock, "its id_token is of %s, and it is %s here", token.IssuedAt.UTC().Format(time.RFC3339),
			now.UTC().Format(time.RFC3339))
	case nonce == "" || m.Nonce != nonce:
		return failed(WrongToken, "its id_token answers another login: the nonce differs")
	case m.Version != Version:
		return failed(WrongToken, "it speaks version %q of LTI, and this is for %s", shortened(m.Version), Version)
	case m.Type != ResourceLink:
		return failed(NotSupported, "messages of the kind %q are not understood", shortened(m.Type))
	case m.Deployment == "" || len(m.Deployment) > 255:
		return failed(WrongToken, "its id_token does not say by which deployment (deployment_id)")
	case m.Link.ID == "":
		return failed(WrongToken, "its id_token does not say which link was opened (resource_link)")
	case m.Target == "":
		return failed(WrongToken, "its id_token does not say which page is to be opened (target_link_uri)")
	case m.Roles == nil:
		return failed(WrongToken, "its id_token has no roles; an empty list is one")
	case len(m.Subject) > 255 || strings.ContainsFunc(m.Subject, func(r rune) bool { return r < ' ' || r > '~' }):
		return failed(WrongToken, "its id_token does not say in 255 ASCII characters who opened the link (sub)")
	}
	return nil
}

// UnmarshalJSON reads one audience or several.
func (a *audience) UnmarshalJSON(text []byte) error {
	var one string
	if json.Unmarshal(text, &one) == nil {
		*a = audience{one}
		return nil
	}
	return json.Unmarshal(text, (*[]string)(a))
}

// mostWords bounds what somebody else's words add to a message, in bytes.
const mostWords = 300

func shortened(text string) string { return call.Excerpt([]byte(text), mostWords) }

// CheckKeys looks whether a platform's keys can be read, and whether there are any.
func CheckKeys(ctx context.Context, client *call.Client, address string) error {
	body, err := answered(ctx, client, http.MethodGet, address, "", nil)
	if err != nil {
		return err
	}
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.Unmarshal(body, &set); err != nil || len(set.Keys) == 0 {
		return failed(WrongToken, "what is at %s are no keys: it is the public keyset URL that is wanted", shortened(address))
	}
	return nil
}
