package badge_test

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
)

// The known answers for 131,072 bits: 0, 42 and the last set, and none.
func TestStatusListHasTheStandardsBits(t *testing.T) {
	for want, revoked := range map[string][]int{
		"2f12225cee7a448a93a1cb9f182bcdc6200f757d99fdf4822599fcd3f460dbe4": {0, 42, 131071},
		"4fe7b59af6de3b665b67788cc2f99892ab827efae3a467342b3bb4e3bc8e5bfe": nil,
	} {
		l, err := badge.BuildStatusList(badge.Revocation, "https://s.example/s/1", "https://s.example/i/1", revoked, time.Now())
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(l.Subject.Encoded, "u"))
		packed, err := base64.RawURLEncoding.DecodeString(l.Subject.Encoded[1:])
		require.NoError(t, err)
		r, err := gzip.NewReader(bytes.NewReader(packed))
		require.NoError(t, err)
		bits, err := io.ReadAll(r)
		require.NoError(t, err)
		sum := sha256.Sum256(bits)
		assert.Equal(t, want, hex.EncodeToString(sum[:]))
	}
	_, err := badge.BuildStatusList(badge.Suspension, "a", "b", []int{badge.Entries}, time.Now())
	assert.ErrorIs(t, err, badge.ErrStatus)
}

// somebodyElses is a list as another program packs it, with 0, 42 and 131071 set.
const somebodyElses = "uH4sIAAAAAAAAA-3BQQEAAAQEsNNEVNFp4bNtcjoAAAAAAAAAAAAAAAAAAADAn1rHIf2LAEAAAA"

func TestStatusIsReadFromAList(t *testing.T) {
	for index, want := range map[int]bool{
		0: true, 1: false, 41: false, 42: true, 43: false, 131070: false, 131071: true,
	} {
		got, err := badge.StatusBit(somebodyElses, index)
		require.NoError(t, err)
		assert.Equal(t, want, got, index)
	}
	entry := badge.StatusAt(badge.Suspension, "https://s.example/s/1", 7)
	assert.Equal(t, badge.Status{
		ID: "https://s.example/s/1#7", Type: badge.StatusEntry, Purpose: badge.Suspension, Index: "7",
		Credential: "https://s.example/s/1",
	}, entry)

	var bomb bytes.Buffer
	w := gzip.NewWriter(&bomb)
	_, err := io.CopyN(w, zeroes{}, 1<<25)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for want, list := range map[string]string{
		"has no entry 131072": somebodyElses,
		"not base64url":       somebodyElses[1:],
		"not packed":          "uAAAA",
		"larger than":         "u" + base64.RawURLEncoding.EncodeToString(bomb.Bytes()),
	} {
		_, err := badge.StatusBit(list, badge.Entries)
		require.ErrorIs(t, err, badge.ErrStatus, want)
		assert.ErrorContains(t, err, want)
	}
	_, err = badge.StatusBit(somebodyElses, -1)
	assert.ErrorIs(t, err, badge.ErrStatus)
}

// A list in which little is set stays small.
func TestStatusListStaysSmall(t *testing.T) {
	var set []int
	for i := 0; i < badge.Entries; i += 100 {
		set = append(set, i*7%badge.Entries)
	}
	l, err := badge.BuildStatusList(badge.Revocation, "https://s.example/s/1", "https://s.example/i/1", set, time.Now())
	require.NoError(t, err)
	assert.Less(t, len(l.Subject.Encoded), 20_000, "1 %% revoked")
}

type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) { clear(p); return len(p), nil }
