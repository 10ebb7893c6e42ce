package signin

import (
	"context"
	"slices"
	"sync"

	"github.com/go-oauth2/oauth2/v4"
	"github.com/go-oauth2/oauth2/v4/errors"
	"github.com/go-oauth2/oauth2/v4/models"
)

// app knows the one app that is registered.
type app struct{}

// GetByID gives it.
func (app) GetByID(_ context.Context, id string) (oauth2.ClientInfo, error) {
	if id != ClientID {
		return nil, errors.ErrInvalidClient
	}
	return &models.Client{ID: ClientID, Secret: ClientSecret}, nil
}

// tokens keeps what was given out, in memory.
type tokens struct {
	mu  sync.Mutex
	all []oauth2.TokenInfo
}

// Create keeps a code, or a token with the one by which it is renewed.
func (s *tokens) Create(_ context.Context, t oauth2.TokenInfo) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, copied(t))
	return nil
}

// copied keeps what is kept apart from what the library changes in place.
func copied(t oauth2.TokenInfo) oauth2.TokenInfo {
	c := *t.(*models.Token)
	return &c
}

func (s *tokens) remove(fits func(oauth2.TokenInfo) bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = slices.DeleteFunc(s.all, fits)
	return nil
}

func (s *tokens) find(fits func(oauth2.TokenInfo) bool) (oauth2.TokenInfo, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.IndexFunc(s.all, fits); i >= 0 {
		return copied(s.all[i]), nil
	}
	return nil, nil //nolint:nilnil // as the library has it
}

func byCode(code string) func(oauth2.TokenInfo) bool {
	return func(t oauth2.TokenInfo) bool { return code != "" && t.GetCode() == code }
}

func byAccess(access string) func(oauth2.TokenInfo) bool {
	return func(t oauth2.TokenInfo) bool { return access != "" && t.GetAccess() == access }
}

func byRefresh(refresh string) func(oauth2.TokenInfo) bool {
	return func(t oauth2.TokenInfo) bool { return refresh != "" && t.GetRefresh() == refresh }
}

// RemoveByCode forgets a code.
func (s *tokens) RemoveByCode(_ context.Context, code string) error { return s.remove(byCode(code)) }

// RemoveByAccess makes an access token one that is known no more; it can be renewed still.
func (s *tokens) RemoveByAccess(_ context.Context, access string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, t := range s.all {
		if byAccess(access)(t) {
			left := *t.(*models.Token)
			left.Access = ""
			s.all[i] = &left
		}
	}
	return nil
}

// RemoveByRefresh forgets a token by the one by which it is renewed.
func (s *tokens) RemoveByRefresh(_ context.Context, refresh string) error {
	return s.remove(byRefresh(refresh))
}

// GetByCode finds a code.
func (s *tokens) GetByCode(_ context.Context, code string) (oauth2.TokenInfo, error) {
	return s.find(byCode(code))
}

// GetByAccess finds a token.
func (s *tokens) GetByAccess(_ context.Context, access string) (oauth2.TokenInfo, error) {
	return s.find(byAccess(access))
}

// GetByRefresh finds a token by the one by which it is renewed.
func (s *tokens) GetByRefresh(_ context.Context, refresh string) (oauth2.TokenInfo, error) {
	return s.find(byRefresh(refresh))
}
