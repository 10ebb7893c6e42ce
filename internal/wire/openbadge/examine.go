package openbadge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Verdict is what became of looking at a badge.
type Verdict string

// The verdicts.
const (
	Valid         Verdict = "valid"
	NotYetValid   Verdict = "not-yet-valid"
	Expired       Verdict = "expired"
	Suspended     Verdict = "suspended"
	Revoked       Verdict = "revoked"
	Altered       Verdict = "altered"
	UnknownIssuer Verdict = "unknown-issuer" // what signed it is not its issuer's key
	Unchecked     Verdict = "cannot-be-checked"
)

// verdicts are all of them, the later the sooner it is to be said.
var verdicts = []Verdict{Valid, Unchecked, NotYetValid, Expired, Suspended, Revoked, UnknownIssuer, Altered}

// What is looked at, in this order.
const (
	CheckRead      = "read"
	CheckIssuer    = "issuer"
	CheckSignature = "signature"
	CheckDates     = "dates"
	CheckStatus    = "status"
)

// How a check went.
const (
	Passed  = "passed"
	Failed  = "failed"
	Unknown = "unknown"
)

// Check is one look at a credential.
type Check struct {
	What    string // CheckRead and so on
	Outcome string // Passed, Failed or Unknown
	Detail  string // what was seen, in words
}

// Examination is what looking at a badge gave. What the credential says is to be believed only as far as the verdict
// goes.
type Examination struct {
	Verdict Verdict
	Why     string // the check that decided, in words
	Checks  []Check
	Seen    Seen
	// Secured is how it is secured: "JWT" or "Data Integrity".
	Secured string
}

// Fetcher gets the document at an address: a key, a DID document, an issuer's page or a status list. It follows no
// address that strangers must not reach, and bounds time and size.
type Fetcher interface {
	// Fetch gives what is at the address; ErrNothing is wrapped by the error where there is nothing.
	Fetch(ctx context.Context, address string) ([]byte, error)
}

// ErrNothing says that there is nothing at an address.
var ErrNothing = errors.New("there is nothing at this address")

// Why a step of an examination did not pass.
var (
	errAltered   = errors.New("altered")
	errUnknown   = errors.New("unknown issuer")
	errUnchecked = errors.New("cannot be checked")
)

type examiner struct {
	ctx   context.Context //nolint:containedctx // one examination
	fetch Fetcher
	at    time.Time
	out   Examination
	got   map[string]fetched
}

type fetched struct {
	body []byte
	err  error
}

// Examine looks at a badge of any issuer as it is at a time: a picture that carries one (PNG or SVG), a JSON
// credential with its proof inside, or a compact JWS.
func Examine(ctx context.Context, file []byte, at time.Time, fetch Fetcher) Examination {
	x := &examiner{ctx: ctx, fetch: fetch, at: at, got: map[string]fetched{}}
	x.out.Verdict, x.out.Why = Valid, "Signed by its issuer, unchanged, and it holds."
	credential, err := Unbake(file)
	if err != nil {
		return x.fail(CheckRead, Unchecked, Failed, err)
	}
	doc, signed, err := x.open(credential)
	if err != nil {
		return x.fail(CheckRead, Unchecked, Failed, err)
	}
	x.out.Seen = see(doc)
	if err := x.isBadge(doc); err != nil {
		return x.fail(CheckRead, Unchecked, Failed, err)
	}
	x.pass(CheckRead, map[string]string{
		"JWT": "Open Badges 3.0, as a signed token.", "Data Integrity": "Open Badges 3.0, with its proof inside.",
	}[x.out.Secured])
	key, err := x.secured(signed, x.out.Seen.Issuer.ID)
	if err != nil {
		switch {
		case errors.Is(err, errUnknown):
			return x.fail(CheckIssuer, UnknownIssuer, Failed, err)
		case errors.Is(err, errAltered):
			x.pass(CheckIssuer, "Its key is the issuer's.")
			return x.fail(CheckSignature, Altered, Failed, err)
		}
		return x.fail(CheckIssuer, Unchecked, Unknown, err)
	}
	x.pass(CheckIssuer, x.whose(key))
	x.pass(CheckSignature, "The signature fits: nothing was changed since.")
	x.dates()
	x.status()
	return x.out
}

// whose says what is known of the issuer.
func (x *examiner) whose(method string) string {
	i := x.out.Seen.Issuer
	if strings.HasPrefix(i.ID, "did:key:") || strings.HasPrefix(i.ID, "did:jwk:") {
		return "Signed with the key that is its issuer, " + i.ID +
			". Who has that key is not said anywhere; the name is their own word."
	}
	key, ok := strings.CutPrefix(method, i.ID)
	if !ok {
		key = method
	}
	detail := fmt.Sprintf("Signed with the key %s of the issuer %s.", strings.TrimLeft(key, "/#"), i.ID)
	if strings.HasPrefix(i.ID, "http://") {
		detail += " It came over http, where whoever carries it could change it."
	}
	return detail
}

func (x *examiner) pass(what, detail string) {
	x.out.Checks = append(x.out.Checks, Check{what, Passed, detail})
}

// fail notes what did not pass; the first that decides stays.
func (x *examiner) fail(what string, verdict Verdict, outcome string, err error) Examination {
	detail := sentence(err)
	x.out.Checks = append(x.out.Checks, Check{what, outcome, detail})
	if Worse(verdict, x.out.Verdict) {
		x.out.Verdict, x.out.Why = verdict, detail
	}
	return x.out
}

// Worse reports whether one verdict is to be said before another.
func Worse(a, b Verdict) bool { return slices.Index(verdicts, a) > slices.Index(verdicts, b) }

// Unreadable is what looking gave where there was nothing to look at, with why.
func Unreadable(why string) Examination {
	return Examination{Verdict: Unchecked, Why: why, Checks: []Check{{CheckRead, Failed, why}}}
}

// sentence makes a sentence of an error.
func sentence(err error) string {
	text := err.Error()
	for _, e := range []error{ErrInvalid, errAltered, errUnknown, errUnchecked} {
		text = strings.TrimPrefix(text, e.Error()+": ")
	}
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

func (x *examiner) isBadge(doc map[string]any) error {
	s := x.out.Seen
	switch {
	case !hasType(doc, "VerifiableCredential"):
		return fmt.Errorf("%w: it is no verifiable credential", ErrInvalid)
	case !hasType(doc, "OpenBadgeCredential", "AchievementCredential"):
		return fmt.Errorf("%w: it is a credential, but no badge of Open Badges 3.0", ErrInvalid)
	case s.Issuer.ID == "":
		return fmt.Errorf("%w: it does not say who its issuer is", ErrInvalid)
	}
	return nil
}

func (x *examiner) dates() {
	s := x.out.Seen
	for _, text := range []string{s.validFrom, s.validEnd} {
		if _, err := time.Parse(time.RFC3339, text); text != "" && err != nil {
			x.fail(CheckDates, Unchecked, Unknown, fmt.Errorf("%q is no time with a zone", text))
			return
		}
	}
	switch {
	case x.at.Before(s.ValidFrom.Add(-time.Minute)): // clocks differ
		x.fail(CheckDates, NotYetValid, Failed, fmt.Errorf("it is valid from %s on", day(s.ValidFrom)))
	case !s.ValidUntil.IsZero() && x.at.After(s.ValidUntil):
		x.fail(CheckDates, Expired, Failed, fmt.Errorf("it was valid until %s", day(s.ValidUntil)))
	case s.ValidUntil.IsZero():
		x.pass(CheckDates, "Valid since "+day(s.ValidFrom)+", without an end.")
	default:
		x.pass(CheckDates, "Valid from "+day(s.ValidFrom)+" until "+day(s.ValidUntil)+".")
	}
}

func day(t time.Time) string { return t.UTC().Format("2 January 2006 15:04 MST") }

// get fetches an address once.
func (x *examiner) get(address string) ([]byte, error) {
	if x.fetch == nil {
		return nil, fmt.Errorf("%w: nothing is fetched here, and %s is needed", errUnchecked, address)
	}
	f, ok := x.got[address]
	if !ok {
		if len(x.got) >= 12 {
			return nil, fmt.Errorf("%w: it names more than 12 addresses to be looked at", errUnchecked)
		}
		f.body, f.err = x.fetch.Fetch(x.ctx, address)
		x.got[address] = f
	}
	return f.body, f.err
}
