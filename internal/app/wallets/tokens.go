package wallets

import (
	"context"
	"crypto/rand"
	"encoding/json"
	stderrors "errors"
	"time"

	"github.com/go-oauth2/oauth2/v4"
	"github.com/go-oauth2/oauth2/v4/errors"
	"github.com/go-oauth2/oauth2/v4/manage"
	"github.com/go-oauth2/oauth2/v4/models"

	"kanban/internal/store/db"
	"kanban/internal/store/walletstore"
)

// How long codes and tokens hold. A token is renewed with every use of its refresh token, so that a wallet that is
// used stays in, and one that is forgotten does not.
const (
	codeHolds    = 5 * time.Minute
	accessHolds  = time.Hour
	refreshHolds = 90 * 24 * time.Hour
)

// Tokens gives out codes and tokens for wallets, and keeps them by their SHA-256.
func Tokens(s *db.Database) *manage.Manager {
	m := manage.NewDefaultManager()
	m.SetAuthorizeCodeExp(codeHolds)
	m.SetAuthorizeCodeTokenCfg(&manage.Config{
		AccessTokenExp: accessHolds, RefreshTokenExp: refreshHolds, IsGenerateRefresh: true,
	})
	m.SetRefreshTokenCfg(&manage.RefreshingConfig{
		AccessTokenExp: accessHolds, RefreshTokenExp: refreshHolds, IsGenerateRefresh: true, IsResetRefreshTime: true,
		IsRemoveAccess: true, IsRemoveRefreshing: true,
	})
	m.MapAuthorizeGenerate(randomCode{})
	m.MapAccessGenerate(randomToken{})
	m.MapClientStorage(clients{s})
	m.MapTokenStorage(tokens{s})
	m.SetValidateURIHandler(func(_, _ string) error { return nil }) // Ask has, by the list of the wallet
	return m
}

type randomCode struct{}

// Token makes a code of 260 random bits.
func (randomCode) Token(context.Context, *oauth2.GenerateBasic) (string, error) {
	return "kbc_" + rand.Text() + rand.Text(), nil
}

type randomToken struct{}

// Token makes an access token and, if asked, a refresh token of 260 random bits each.
func (randomToken) Token(_ context.Context, _ *oauth2.GenerateBasic, refreshing bool) (access, refresh string,
	err error,
) {
	if refreshing {
		refresh = "kbr_" + rand.Text() + rand.Text()
	}
	return "kbw_" + rand.Text() + rand.Text(), refresh, nil
}

// clients finds wallets for the library.
type clients struct{ store *db.Database }

// client is a wallet; who it is was checked before.
type client struct{ *models.Client }

// VerifyPassword says yes: see Known.
func (client) VerifyPassword(string) bool { return true }

// GetByID finds a wallet.
func (c clients) GetByID(ctx context.Context, id string) (oauth2.ClientInfo, error) {
	w, err := walletstore.Find(ctx, c.store, id)
	if stderrors.Is(err, db.ErrNotFound) {
		return nil, errors.ErrInvalidClient
	}
	return client{&models.Client{ID: w.ID, Public: len(w.SecretHash) == 0}}, err
}

// tokens keeps what is given out.
type tokens struct{ store *db.Database }

// Create keeps a code, or an access token with the one by which it is renewed.
func (t tokens) Create(ctx context.Context, info oauth2.TokenInfo) error {
	kept, ok := info.(*models.Token)
	if !ok {
		return stderrors.New("keeping a token: it is of another kind")
	}
	text := *kept
	text.Code, text.Access, text.Refresh = "", "", ""
	about, err := json.Marshal(text)
	if err != nil {
		return err
	}
	family := db.NewID()
	row := func(kind, secret string, ends time.Time) walletstore.Token {
		return walletstore.Token{
			Hash: hashed(secret), Kind: kind, Family: family, WalletID: kept.ClientID, PersonID: kept.UserID,
			Info: about, EndsAt: ends,
		}
	}
	all := []walletstore.Token{row(walletstore.Code, kept.Code, kept.CodeCreateAt.Add(kept.CodeExpiresIn))}
	if kept.Code == "" {
		all = []walletstore.Token{
			row(walletstore.Access, kept.Access, kept.AccessCreateAt.Add(kept.AccessExpiresIn)),
			row(walletstore.Refresh, kept.Refresh, kept.RefreshCreateAt.Add(kept.RefreshExpiresIn)),
		}
	}
	return walletstore.KeepTokens(ctx, t.store, time.Now(), all...)
}

// find gives what was kept of a token; nil when it is not known.
func (t tokens) find(ctx context.Context, kind, secret string) (*models.Token, walletstore.Token, error) {
	row, err := walletstore.FindToken(ctx, t.store, kind, hashed(secret))
	if stderrors.Is(err, db.ErrNotFound) {
		return nil, row, nil
	}
	if err != nil {
		return nil, row, err
	}
	info := models.NewToken()
	return info, row, json.Unmarshal(row.Info, info)
}

// GetByCode finds what was kept of a code. One that was exchanged before ends everything that its wallet may do: two
// have it (RFC 6749, section 4.1.2).
func (t tokens) GetByCode(ctx context.Context, code string) (oauth2.TokenInfo, error) {
	info, row, err := t.find(ctx, walletstore.Code, code)
	if err != nil || info == nil {
		return nil, err
	}
	if row.UsedAt != nil {
		return nil, t.store.InTx(ctx, func(tx *db.Tx) error {
			if err := walletstore.DropGrant(ctx, tx, row.WalletID, row.PersonID); err != nil {
				return err
			}
			return tx.Audit(ctx, "Kanban", "shut a wallet out whose code was used twice", "person/"+row.PersonID, nil)
		})
	}
	info.Code = code
	return info, nil
}

// GetByAccess finds what was kept of an access token.
func (t tokens) GetByAccess(ctx context.Context, access string) (oauth2.TokenInfo, error) {
	info, _, err := t.find(ctx, walletstore.Access, access)
	if err != nil || info == nil {
		return nil, err
	}
	info.Access = access
	return info, nil
}

// GetByRefresh finds what was kept of a refresh token.
func (t tokens) GetByRefresh(ctx context.Context, refresh string) (oauth2.TokenInfo, error) {
	info, _, err := t.find(ctx, walletstore.Refresh, refresh)
	if err != nil || info == nil {
		return nil, err
	}
	info.Refresh = refresh
	return info, nil
}

// RemoveByCode notes that a code is exchanged; of two who try at once, one may.
func (t tokens) RemoveByCode(ctx context.Context, code string) error {
	first, err := walletstore.UseCode(ctx, t.store, hashed(code), time.Now())
	if err == nil && !first {
		err = errors.ErrInvalidAuthorizeCode
	}
	return err
}

// RemoveByAccess drops an access token and the one by which it is renewed; "" when it goes with that one.
func (t tokens) RemoveByAccess(ctx context.Context, access string) error {
	if access == "" {
		return nil
	}
	_, err := walletstore.DropTokens(ctx, t.store, walletstore.Access, hashed(access))
	return err
}

// RemoveByRefresh drops a refresh token and its access token; of two who renew at once, one may.
func (t tokens) RemoveByRefresh(ctx context.Context, refresh string) error {
	there, err := walletstore.DropTokens(ctx, t.store, walletstore.Refresh, hashed(refresh))
	if err == nil && !there {
		err = errors.ErrInvalidRefreshToken
	}
	return err
}

// Revoke ends a token of a wallet, with its family; one that is not known, or another's, is left.
func (s *Service) Revoke(ctx context.Context, walletID, token string) error {
	for _, kind := range []string{walletstore.Refresh, walletstore.Access} {
		t, err := walletstore.FindToken(ctx, s.Store, kind, hashed(token))
		if stderrors.Is(err, db.ErrNotFound) || err == nil && t.WalletID != walletID {
			continue
		}
		if err == nil {
			_, err = walletstore.DropTokens(ctx, s.Store, kind, t.Hash)
		}
		return err
	}
	return nil
}
