package web

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"rsc.io/qr"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	waysInOp = operation{
		ID: "ways-in", Act: permission.Anyone,
		Method: http.MethodGet, Path: "/session/ways", Status: http.StatusOK, Tag: "sign-in",
		Summary: "How people can sign in",
	}
	resetPasswordOp = operation{
		ID: "reset-password", Act: permission.Anyone,
		Method: http.MethodPost, Path: "/session/reset", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Mail a link to choose a new password by, when somebody signs in with the address; the answer does not tell",
	}
	getCodesOp = operation{
		ID: "get-codes", Act: permission.Own,
		Method: http.MethodGet, Path: codesPath, Status: http.StatusOK, Tag: "sign-in",
		Summary: "How it stands with your one-time codes",
	}
	beginCodesOp = operation{
		ID: "begin-codes", Act: permission.Own,
		Method: http.MethodPost, Path: codesPath, Status: http.StatusOK, Tag: "sign-in",
		Summary: "Begin to set up one-time codes (RFC 6238): what your app has to be told",
	}
	confirmCodesOp = operation{
		ID: "confirm-codes", Act: permission.Own,
		Method: http.MethodPut, Path: codesPath, Status: http.StatusOK, Tag: "sign-in",
		Summary: "Turn your one-time codes on by the first of them, and get recovery codes",
	}
	recoveryCodesOp = operation{
		ID: "make-recovery-codes", Act: permission.Own,
		Method: http.MethodPost, Path: codesPath + "/recovery", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Get new recovery codes; the former ones are void",
	}
	endCodesOp = operation{
		ID: "end-codes", Act: permission.Own,
		Method: http.MethodPost, Path: codesPath + "/end", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Sign in with the password alone from now on",
	}
	getSignInSettingsOp = operation{
		ID: "get-sign-in-settings", Act: permission.Users,
		Method: http.MethodGet, Path: "/sign-in-settings", Status: http.StatusOK, Tag: "users",
		Summary: "What holds for everybody who signs in",
	}
	editSignInSettingsOp = operation{
		ID: "edit-sign-in-settings", Act: permission.Users,
		Method: http.MethodPut, Path: "/sign-in-settings", Status: http.StatusOK, Tag: "users",
		Summary: "Say which roles need one-time codes; it holds at once",
	}
)

// codesPath is where somebody's one-time codes are.
const codesPath = "/session/codes"

// codes registers the operations about one-time codes and forgotten passwords.
func (s *Server) codes(a huma.API) {
	handle(a, waysInOp, s.waysIn)
	handleEmpty(a, resetPasswordOp, s.resetPassword)
	handle(a, getCodesOp, s.getCodes)
	handle(a, beginCodesOp, s.beginCodes)
	handle(a, confirmCodesOp, s.confirmCodes)
	handle(a, recoveryCodesOp, s.makeRecoveryCodes)
	handleEmpty(a, endCodesOp, s.endCodes)
	handle(a, getSignInSettingsOp, s.getSignInSettings)
	handle(a, editSignInSettingsOp, s.editSignInSettings)
}

func (s *Server) waysIn(ctx context.Context, _ *struct{}) (api.WaysIn, error) {
	mails, err := s.Access.Mails(ctx)
	if err != nil {
		return api.WaysIn{}, err
	}
	all, err := s.Access.WaysIn(ctx)
	provider, refused, _ := strings.Cut(s.auth.Take(ctx, keptRefusal), "\n")
	return api.WaysIn{
		Mails: mails, Provider: provider, Refused: refused,
		Providers: each(all, func(p accessstore.Provider) api.OwnProvider {
			return api.OwnProvider{
				ID:   p.ID,
				Name: p.Name,
			}
		}),
	}, err
}

// mailWithin is how long a link to choose a password by may take to be mailed.
const mailWithin = time.Minute

// resetPassword answers before anything is looked up, so that neither the answer nor its time tells who signs in here.
func (s *Server) resetPassword(ctx context.Context, in *with[api.Reset]) error {
	if err := s.auth.AdmitReset(ctx, in.Body.Email); err != nil {
		return err
	}
	go func() {
		own, done := context.WithTimeout(context.WithoutCancel(ctx), mailWithin)
		defer done()
		if err := s.Access.Reset(own, in.Body.Email); err != nil {
			s.Log.Error("mailing a link to choose a password by", "cause", err.Error())
		}
	}()
	return nil
}

func (s *Server) getCodes(ctx context.Context, _ *struct{}) (api.Codes, error) {
	c, err := s.Access.Codes(ctx, auth.Caller(ctx))
	return api.Codes{OnSince: c.OnSince, RecoveryLeft: c.RecoveryLeft, Required: c.Required}, err
}

func (s *Server) beginCodes(ctx context.Context, in *with[api.BeginCodes]) (api.NewCodes, error) {
	if err := s.auth.Admit(ctx, auth.Caller(ctx).ID); err != nil {
		return api.NewCodes{}, err
	}
	n, err := s.Access.BeginCodes(ctx, auth.Caller(ctx), in.Body.Password)
	if err != nil {
		return api.NewCodes{}, err
	}
	code, err := qr.Encode(n.Address, qr.M)
	if err != nil {
		return api.NewCodes{}, fmt.Errorf("drawing the code: %w", err)
	}
	picture := "data:image/png;base64," + base64.StdEncoding.EncodeToString(code.PNG())
	return api.NewCodes{Secret: n.Secret, Address: n.Address, Picture: picture}, nil
}

func (s *Server) confirmCodes(ctx context.Context, in *with[api.Code]) (api.RecoveryCodes, error) {
	return s.forCode(ctx, in, s.Access.ConfirmCodes)
}

func (s *Server) makeRecoveryCodes(ctx context.Context, in *with[api.Code]) (api.RecoveryCodes, error) {
	return s.forCode(ctx, in, s.Access.RecoveryCodes)
}

func (s *Server) forCode(ctx context.Context, in *with[api.Code],
	do func(context.Context, access.Caller, string) ([]string, error),
) (api.RecoveryCodes, error) {
	c := auth.Caller(ctx)
	if err := s.auth.AdmitCode(ctx, c.ID); err != nil {
		return api.RecoveryCodes{}, err
	}
	codes, err := do(ctx, c, in.Body.Code)
	return api.RecoveryCodes{Codes: codes}, err
}

func (s *Server) endCodes(ctx context.Context, in *with[api.Code]) error {
	c := auth.Caller(ctx)
	if err := s.auth.AdmitCode(ctx, c.ID); err != nil {
		return err
	}
	return s.Access.EndCodes(ctx, c, in.Body.Code)
}

func shownSignInSettings(set access.SignInSettings) api.SignInSettings {
	return api.SignInSettings{
		CodesRequired: each(set.CodesRequired, func(r permission.Role) string { return string(r) }),
	}
}

func (s *Server) getSignInSettings(ctx context.Context, _ *struct{}) (api.SignInSettings, error) {
	set, err := s.Access.SignInSettings(ctx)
	return shownSignInSettings(set), err
}

func (s *Server) editSignInSettings(ctx context.Context, in *with[api.SignInSettings]) (api.SignInSettings, error) {
	set := access.SignInSettings{
		CodesRequired: each(in.Body.CodesRequired, func(r string) permission.Role { return permission.Role(r) }),
	}
	if err := s.Access.EditSignInSettings(ctx, auth.Caller(ctx), set); err != nil {
		return api.SignInSettings{}, err
	}
	return s.getSignInSettings(ctx, nil)
}
