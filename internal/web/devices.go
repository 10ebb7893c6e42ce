package web

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

const (
	// deviceGrant is how a program asks for a token that somebody has allowed (RFC 8628, 3.4).
	deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"
	// devicePath is where it asks to be allowed, and devicePage where somebody does so.
	devicePath = "/device-authorization"
	devicePage = "/device"
	// deviceClient is the one client that may: whoever has no secret is not told apart by its name.
	deviceClient = "kanban"
)

var (
	findDeviceOp = operation{
		ID: "find-device", Act: permission.Own,
		Method: http.MethodGet, Path: devicesPath + "/{code}", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Which program asks with a code to be let in",
	}
	answerDeviceOp = operation{
		ID: "answer-device", Act: permission.Own,
		Method: http.MethodPut, Path: devicesPath + "/{code}", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Let a program in by a token of yours, or refuse it (RFC 8628)",
	}
)

// devicesPath is where programs are answered that ask to be let in.
const devicesPath = "/session/devices"

// devices registers what people answer to programs that ask to be let in.
func (s *Server) devices(a huma.API) {
	handle(a, findDeviceOp, s.findDevice)
	handleEmpty(a, answerDeviceOp, s.answerDevice)
}

type byCode struct {
	Code string `path:"code" maxLength:"40" doc:"What the program shows; case and marks do not count"`
}

type answerToDevice struct {
	Code string `path:"code" maxLength:"40" doc:"What the program shows; case and marks do not count"`
	Body api.DeviceAnswer
}

func (s *Server) findDevice(ctx context.Context, in *byCode) (api.DeviceAsk, error) {
	if err := s.auth.Admit(ctx, auth.Caller(ctx).ID); err != nil {
		return api.DeviceAsk{}, err
	}
	d, err := s.Access.FindDevice(ctx, in.Code)
	return api.DeviceAsk{
		Code: d.Code, Name: d.Name, Agent: d.Agent, Address: d.Address, AskedAt: d.AskedAt, Days: d.Days,
	}, err
}

func (s *Server) answerDevice(ctx context.Context, in *answerToDevice) error {
	if err := s.auth.Admit(ctx, auth.Caller(ctx).ID); err != nil {
		return err
	}
	return s.Access.AnswerDevice(ctx, auth.Caller(ctx), in.Code, in.Body.Allow)
}

// knownDevice refuses a client that is not known here.
func knownDevice(w http.ResponseWriter, r *http.Request) bool {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		oauthProblem(w, http.StatusBadRequest, "invalid_request", "the request is no form, or too long")
		return false
	}
	if id := r.PostForm.Get("client_id"); id != deviceClient {
		oauthProblem(w, http.StatusBadRequest, "invalid_client", "client_id must be "+deviceClient)
		return false
	}
	return true
}

// beginDevice lets a program ask to be let in (RFC 8628, 3.1 and 3.2). It may say in device_name what it is.
func (s *Server) beginDevice(w http.ResponseWriter, r *http.Request) {
	if !knownDevice(w, r) {
		return
	}
	agent := strings.ToValidUTF8(r.UserAgent()[:min(len(r.UserAgent()), 300)], "")
	d, err := s.Access.BeginDevice(r.Context(), access.Device{
		Name: r.PostForm.Get("device_name"), Agent: agent, Address: s.client(r),
	})
	if err != nil {
		s.Log.Error("letting a program ask", "cause", err.Error())
		oauthProblem(w, http.StatusServiceUnavailable, "temporarily_unavailable", "try again")
		return
	}
	writeJSON(w, http.StatusOK, map[string]any{
		"device_code": d.DeviceCode, "user_code": d.UserCode, "verification_uri": s.Public + devicePage,
		"verification_uri_complete": s.Public + devicePage + "?code=" + d.UserCode,
		"expires_in":                int(d.Lasts / time.Second), "interval": int(d.Every / time.Second),
	})
}

// deviceToken answers a program whether it was let in by now (RFC 8628, 3.4 and 3.5).
func (s *Server) deviceToken(w http.ResponseWriter, r *http.Request) {
	if !knownDevice(w, r) {
		return
	}
	token, lasts, err := s.Access.DeviceToken(r.Context(), r.PostForm.Get("device_code"))
	for answer, text := range map[error]string{
		access.ErrPending: "nobody has answered yet", access.ErrSlowDown: "wait longer before you ask again",
		access.ErrDenied: "it was refused", access.ErrExpired: "nobody answered in time",
		access.ErrNoGrant: "this code was used already, or never given",
	} {
		if errors.Is(err, answer) {
			oauthProblem(w, http.StatusBadRequest, answer.Error(), text)
			return
		}
	}
	if err != nil {
		s.Log.Error("giving a program its token", "cause", err.Error())
		oauthProblem(w, http.StatusServiceUnavailable, "temporarily_unavailable", "try again")
		return
	}
	writeJSON(w, http.StatusOK, map[string]any{
		"access_token": token, "token_type": "Bearer", "expires_in": int(lasts / time.Second),
	})
}
