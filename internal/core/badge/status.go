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

// The purposes of a status: a revocation is final, a suspension ends.
const (
	Revocation = "revocation"
	Suspension = "suspension"
)

// StatusEntry is the type of a status that a list tells.
const StatusEntry = "BitstringStatusListEntry"

// Entries is how many a status list holds: the fewest that the standard allows, so that
// nobody is found by the length of a list (Bitstring Status List 1.0, 6.1).
const Entries = 131_072

// StatusAt is the entry of a list that stands for one credential.
func StatusAt(purpose, listAddress string, index int) Status {
	text := strconv.Itoa(index)
	return Status{
		ID: listAddress + "#" + text, Type: StatusEntry, Purpose: purpose, Index: text, Credential: listAddress,
	}
}

// StatusList is a BitstringStatusListCredential: which credentials of an issuer are revoked, or
// suspended, one bit each (Bitstring Status List 1.0, 2.2).
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

// BuildStatusList makes the list at an address, as of a time, in which the entries with the given places are set.
func BuildStatusList(purpose, address, issuer string, set []int, at time.Time) (StatusList, error) {
	bits := make([]byte, Entries/8)
	for _, i := range set {
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
			ID: address + "#list", Type: "BitstringStatusList", Purpose: purpose, Encoded: encoded,
			TTL: statusFor.Milliseconds(),
		},
	}, err
}

// ErrStatus is wrapped by every reason for which a status cannot be told (Bitstring
// Status List 1.0, 3.2).
var ErrStatus = errors.New("status cannot be read")

// StatusBit reads one entry of an encoded list: whether it is set.
func StatusBit(encoded string, index int) (bool, error) {
	bits, err := decodeBits(encoded)
	if err != nil {
		return false, err
	}
	if index < 0 || index >= len(bits)*8 {
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
