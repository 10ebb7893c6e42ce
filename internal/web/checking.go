package web

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/httprate"

	"kanban/internal/store/badgestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/openbadge"
)

// verdictLine is the line on a public page that says how a badge is.
type verdictLine struct {
	Good bool
	Text string
}

// saysVerdict gives the words for each verdict.
var saysVerdict = map[openbadge.Verdict]string{
	openbadge.Valid:         "Valid",
	openbadge.NotYetValid:   "Not valid yet",
	openbadge.Expired:       "Expired",
	openbadge.Suspended:     "Suspended",
	openbadge.Revoked:       "Revoked",
	openbadge.Altered:       "Altered",
	openbadge.UnknownIssuer: "Unknown issuer",
	openbadge.Unchecked:     "Cannot be checked",
}

func verdictOf(x openbadge.Examination, a badgestore.Award) verdictLine {
	line := verdictLine{Good: x.Verdict == openbadge.Valid, Text: saysVerdict[x.Verdict] + ". " + x.Why}
	switch {
	case line.Good:
		line.Text = "Verified just now: signed by the issuer, unchanged, not revoked."
	case x.Verdict == openbadge.Revoked && a.RevokedAt != nil:
		line.Text = fmt.Sprintf("Revoked by the issuer on %s: %s", a.RevokedAt.Format("2 January 2006"), a.Reason)
	case x.Verdict == openbadge.Suspended && a.SuspendedAt != nil:
		line.Text = fmt.Sprintf("Suspended by the issuer on %s: %s", a.SuspendedAt.Format("2 January 2006"), a.SuspendedReason)
	}
	return line
}

// belonging is whether a badge was awarded to an address that somebody claims.
type belonging struct {
	Asks    bool // it says whose it is by an address, so that one can be asked about
	Claimed string
	Yes     bool
}

func belongs(s openbadge.Seen, claimed string) belonging {
	claimed = strings.TrimSpace(claimed)
	return belonging{Asks: s.HasAddress(), Claimed: claimed, Yes: claimed != "" && s.BelongsTo(claimed)}
}

// slowedDown bounds how often one address may have badges checked: each may make this service ask others.
func (s *Server) slowedDown(next http.Handler) http.Handler {
	return slowed(30, time.Minute, s.client, func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusTooManyRequests)
		s.openPage(w, r, checkPage, map[string]any{"Problem": "That was often. Wait a minute, then try again."})
	})(next)
}

// client is the network address from which a request comes.
func (s *Server) client(r *http.Request) string { return auth.ClientAddress(r, s.TrustedProxies) }

// slowed bounds how often something is done, by what a request says, and answers whoever does it more often.
func slowed(most int, within time.Duration, by func(*http.Request) string, often http.HandlerFunc,
) func(http.Handler) http.Handler {
	return httprate.Limit(most, within,
		httprate.WithKeyFuncs(func(r *http.Request) (string, error) { return by(r), nil }),
		httprate.WithLimitHandler(often))
}

// checkPage checks a badge of any issuer for anybody: a file, an address, or the credential as text.
func (s *Server) checkPage(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if r.Method != http.MethodPost {
		s.openPage(w, r, checkPage, map[string]any{})
		return
	}
	if err := r.ParseMultipartForm(maxBody); err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		s.openPage(w, r, checkPage, map[string]any{"Problem": "The file is larger than 8 MB, or did not come whole. Try again."})
		return
	}
	defer func() { _ = r.MultipartForm.RemoveAll() }()
	text, file := strings.TrimSpace(r.FormValue("text")), []byte(nil)
	if f, _, err := r.FormFile("file"); err == nil {
		defer f.Close()
		if file, err = io.ReadAll(f); err != nil {
			s.missing(w, err)
			return
		}
	}
	data := map[string]any{"Text": text, "Address": r.FormValue("address")}
	switch {
	case len(file) == 0 && text == "":
		data["Problem"] = "Choose a file, or enter an address or a credential."
	case len(file) > 0 && text != "":
		data["Problem"] = "Choose a file, or enter an address or a credential: one of both at a time."
	default:
		if len(file) == 0 {
			file = []byte(text)
		}
		x, err := s.Badges.CheckFile(r.Context(), file)
		if err != nil {
			s.missing(w, err)
			return
		}
		data["Examined"], data["Verdict"] = x, verdictOf(x, badgestore.Award{})
		data["Belongs"] = belongs(x.Seen, r.FormValue("address"))
	}
	s.openPage(w, r, checkPage, data)
}
