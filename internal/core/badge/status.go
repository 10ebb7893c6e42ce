package badge

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// Status says where to look whether a credential was revoked: an entry of a status list
// (Bitstring Status List 1.0, 2.1).
type Status struct {
	ID         string `json:"id"`
	Type       string `json:"type"`
	Purpose    string `json:"statusPurpose"`
	Index      string `json:"statusListIndex"` // decimal
	Credential string `json:"statusListCredential"`
}

// Revocation is the purpose of a status that is final.
const Revocation = "revocation"

// Entries is how many a status list holds: the fewest that the standard allows, so that
// nobody is found by the length of a list (Bitstring Status List 1.0, 6.1).
const Entries = 131_072

// StatusAt is the entry of a list that stands for one credential.
func StatusAt(listAddress string, index int) *Status {
	text := strconv.Itoa(index)
	return &Status{
		ID: listAddress + "#" + text, Type: "BitstringStatusListEntry", Purpose: Revocation, Index: text,
		Credential: listAddress,
	}
}

// StatusList is a BitstringStatusListCredential: which credentials of an issuer are
// revoked, one bit each (Bitstring Status List 1.0, 2.2).
type StatusList struct {
	Context   []string   `json:"@context"`
	ID        string     `json:"id"`
	Type      []string   `json:"type"`
	Issuer    string     `json:"issuer"`
	ValidFrom time.Time  `json:"validFrom"`
	Subject   StatusBits `json:"credentialSubject"`
}

// StatusBits is what a status list is about.
type StatusBits struct {
	ID      string `json:"id"`
	Type    string `json:"type"`
	Purpose string `json:"statusPurpose"`
	Encoded string `json:"encodedList"`
	TTL     int64  `json:"ttl"` // milliseconds for which a copy may be used
}

// statusFor is how long a copy of a status list may be used.
const statusFor = 5 * time.Minute

// statusSince is how long before it is asked for a status list is valid: clocks of verifiers that
// are behind accept it all the same.
const statusSince = 10 * time.Minute

// BuildStatusList makes the list at an address, as of a time, in which the entries with
// the given places are revoked.
func BuildStatusList(address, issuer string, revoked []int, at time.Time) (StatusList, error) {
	bits := make([]byte, Entries/8)
	for _, i := range revoked {
		if i < 0 || i >= Entries {
			return StatusList{}, fmt.Errorf("%w: a status list has no entry %d", ErrStatus, i)
		}
		bits[i/8] |= 0x80 >> (i % 8)
	}
	encoded, err := encodeBits(bits)
	since := at.Add(-statusSince).UTC().Truncate(statusFor) // the same for a while: a copy stays good
	return StatusList{
		Context: Contexts[:1], ID: address, Type: []string{
			"VerifiableCredential",
			"BitstringStatusListCredential",
		}, Issuer: issuer, ValidFrom: since,
		Subject: StatusBits{
			ID: address + "#list", Type: "BitstringStatusList", Purpose: Revocation, Encoded: encoded,
			TTL: statusFor.Milliseconds(),
		},
	}, err
}

// ErrStatus is wrapped by every reason for which a status cannot be told (Bitstring
// Status List 1.0, 3.2).
var ErrStatus = errors.New("status cannot be read")

// Revoked reads a credential's status out of the list that it names.
func (l StatusList) Revoked(c Credential) (bool, error) {
	s := c.Status
	switch {
	case s == nil:
		return false, nil
	case s.Type != "BitstringStatusListEntry" || s.Purpose != Revocation || l.Subject.Purpose != Revocation:
		return false, fmt.Errorf("%w: its purpose is %q, the list's is %q", ErrStatus, s.Purpose, l.Subject.Purpose)
	case l.ID != s.Credential:
		return false, fmt.Errorf("%w: the list is %s, not %s", ErrStatus, l.ID, s.Credential)
	case l.Issuer != c.Issuer.ID:
		return false, fmt.Errorf("%w: the list is by %s, the credential by %s", ErrStatus, l.Issuer, c.Issuer.ID)
	}
	index, err := strconv.Atoi(s.Index)
	if err != nil || index < 0 {
		return false, fmt.Errorf("%w: %q is no place in a list", ErrStatus, s.Index)
	}
	bits, err := decodeBits(l.Subject.Encoded)
	if err != nil {
		return false, err
	}
	if index >= len(bits)*8 {
		return false, fmt.Errorf("%w: the list has no entry %d", ErrStatus, index)
	}
	return bits[index/8]>>(7-index%8)&1 == 1, nil
}

// encodeBits gives a bit array as multibase base64url of its GZIP.
func encodeBits(bits []byte) (string, error) {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	if _, err := w.Write(bits); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	return "u" + base64.RawURLEncoding.EncodeToString(out.Bytes()), nil
}

// mostBits bounds what an encoded list may unpack to, in bytes.
const mostBits = 1 << 24

func decodeBits(text string) ([]byte, error) {
	packed, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(text, "u"))
	if err != nil || !strings.HasPrefix(text, "u") {
		return nil, fmt.Errorf("%w: the list is not base64url", ErrStatus)
	}
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, fmt.Errorf("%w: the list is not packed: %w", ErrStatus, err)
	}
	bits, err := io.ReadAll(io.LimitReader(r, mostBits+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: the list cannot be unpacked: %w", ErrStatus, err)
	case len(bits) > mostBits:
		return nil, fmt.Errorf("%w: the list is larger than %d bytes", ErrStatus, mostBits)
	case len(bits)*8 < Entries:
		return nil, fmt.Errorf("%w: the list has %d entries, fewer than %d", ErrStatus, len(bits)*8, Entries)
	}
	return bits, nil
}
