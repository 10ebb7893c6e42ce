package roster

import (
	"errors"
	"net/mail"
	"strings"

	"golang.org/x/net/idna"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// ErrNoAddress means that there is nothing but white space.
var ErrNoAddress = errors.New("no address")

// ErrBadAddress means that the text is not one plain e-mail address.
var ErrBadAddress = errors.New("not a valid e-mail address")

// AddressKey turns an e-mail address into the form under which it is compared:
// trimmed, Unicode NFC, case folded, the domain as A-labels (RFC 5321 4.1.2,
// RFC 6531 3.2). The key is for comparing only; what is stored is never
// rewritten. Two mailboxes that differ only in the case of their local part
// share a key, as nearly every mail system treats them as one.
func AddressKey(address string) (string, error) {
	trimmed := strings.TrimSpace(norm.NFC.String(address))
	if trimmed == "" {
		return "", ErrNoAddress
	}
	if key, ok := plainKey(trimmed); ok {
		return key, nil
	}
	return generalKey(trimmed)
}

// plainKey is the short way for the addresses that nearly all people have: ASCII
// letters, digits and a few signs. ok is false for every other text, which then
// takes the long way; a test holds both to the same answer.
func plainKey(address string) (key string, ok bool) {
	at := strings.IndexByte(address, '@')
	if at < 1 || at > 64 || len(address) > 254 {
		return "", false
	}
	lower := strings.ToLower(address)
	dot := true // a dot may not come now: at a beginning, after another one
	dots := 0
	for i := range len(lower) {
		switch c := lower[i]; {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', i < at && (c == '_' || c == '+' || c == '-'):
			dot = false
		case c == '.' && !dot:
			dot = true
			if i > at {
				dots++
			}
		case i == at && !dot:
			dot = true
		default:
			return "", false
		}
	}
	return lower, !dot && dots > 0
}

// generalKey handles everything that can be an address.
func generalKey(trimmed string) (string, error) {
	parsed, err := mail.ParseAddress(trimmed)
	if err != nil || parsed.Name != "" || strings.HasPrefix(trimmed, "<") {
		return "", ErrBadAddress
	}
	at := strings.LastIndexByte(parsed.Address, '@')
	local, domain := parsed.Address[:at], parsed.Address[at+1:]
	ascii, err := idna.Lookup.ToASCII(domain)
	if err != nil || !strings.Contains(ascii, ".") || len(local) > 64 || len(ascii) > 255 ||
		len(local)+len(ascii) > 253 {
		return "", ErrBadAddress
	}
	return cases.Fold().String(local) + "@" + strings.ToLower(ascii), nil
}
