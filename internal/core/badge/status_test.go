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
		l, err := badge.BuildStatusList("https://s.example/s/1", "https://s.example/i/1", revoked, time.Now())
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
	_, err := badge.BuildStatusList("a", "b", []int{badge.Entries}, time.Now())
	assert.ErrorIs(t, err, badge.ErrStatus)
}

// somebodyElses is a list as another program packs it, with 0, 42 and 131071 set.
const somebodyElses = "uH4sIAAAAAAAAA-3BQQEAAAQEsNNEVNFp4bNtcjoAAAAAAAAAAAAAAAAAAADAn1rHIf2LAEAAAA"

func TestStatusIsReadFromTheListItNames(t *testing.T) {
	const address = "https://s.example/i/1/status/0"
	credential := func(index int) badge.Credential {
		return badge.Credential{
			Issuer: badge.Profile{ID: "https://s.example/i/1"},
			Status: badge.StatusAt(address, index),
		}
	}
	l, err := badge.BuildStatusList(address, "https://s.example/i/1", nil, time.Now())
	require.NoError(t, err)
	l.Subject.Encoded = somebodyElses
	for index, want := range map[int]bool{
		0: true, 1: false, 41: false, 42: true, 43: false, 131070: false,
		131071: true,
	} {
		got, err := l.Revoked(credential(index))
		require.NoError(t, err)
		assert.Equal(t, want, got, index)
	}
	none, err := l.Revoked(badge.Credential{})
	assert.NoError(t, err)
	assert.False(t, none, "what names no list cannot be revoked")

	var bomb bytes.Buffer
	w := gzip.NewWriter(&bomb)
	_, err = io.CopyN(w, zeroes{}, 1<<25)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for want, change := range map[string]func(*badge.StatusList, *badge.Credential){
		"its purpose is":      func(_ *badge.StatusList, c *badge.Credential) { c.Status.Purpose = "suspension" },
		"the list's is":       func(l *badge.StatusList, _ *badge.Credential) { l.Subject.Purpose = "message" },
		"the list is https:":  func(_ *badge.StatusList, c *badge.Credential) { c.Status.Credential += "1" },
		"the list is by":      func(l *badge.StatusList, _ *badge.Credential) { l.Issuer = "https://else.example" },
		"is no place":         func(_ *badge.StatusList, c *badge.Credential) { c.Status.Index = "-1" },
		"has no entry 131072": func(_ *badge.StatusList, c *badge.Credential) { c.Status.Index = "131072" },
		"not base64url": func(l *badge.StatusList,
			_ *badge.Credential,
		) {
			l.Subject.Encoded = l.Subject.Encoded[1:]
		},
		"not packed": func(l *badge.StatusList, _ *badge.Credential) { l.Subject.Encoded = "uAAAA" },
		"larger than": func(l *badge.StatusList, _ *badge.Credential) {
			l.Subject.Encoded = "u" + base64.RawURLEncoding.EncodeToString(bomb.Bytes())
		},
	} {
		changed, c := l, credential(0)
		change(&changed, &c)
		_, err := changed.Revoked(c)
		require.ErrorIs(t, err, badge.ErrStatus, want)
		assert.ErrorContains(t, err, want)
	}
}

type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) { clear(p); return len(p), nil }
