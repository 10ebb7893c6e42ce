package web

import (
	"bytes"
	"context"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"kanban/internal/app/badges"
	"kanban/internal/app/holders"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

var holderPage = template.Must(template.New("holder.html").Funcs(template.FuncMap{
	"day":     func(at time.Time) string { return at.UTC().Format("2 January 2006") },
	"may":     mayDo,
	"verdict": func(v string) string { return saysVerdict[openbadge.Verdict(v)] },
	"picture": badges.PicturePath,
}).ParseFS(pages, "pages/holder.html", "pages/parts.html"))

// holderCookie keeps a browser on the page of a holder.
const holderCookie = "kanban_holder"

// holders registers the pages of those who hold badges. They are reached by a link in a mail, without an account.
func (s *Server) holders(r chi.Router) {
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, unsought)
		r.Get(holders.Path, s.holder)
		r.Get(holders.Path+"/awards/{id}/pdf", s.certificate)
		r.Get(holders.Path+"/plans/{id}.svg", s.holderMap)
		r.Get(holders.Path+"/link/{token}", s.enterHolder)
		r.Post(holders.Path+"/terms", s.holderDoes(s.acceptTerms))
		r.Post(holders.Path+"/name", s.holderDoes(s.nameHolder))
		r.Post(holders.Path+"/share", s.holderDoes(s.shareAward))
		r.Post(holders.Path+"/leave", s.leaveHolder)
		// Addresses could be tried out at a link, and mails be sent to somebody again and again. A whole class may sit
		// behind one network address.
		often := func(w http.ResponseWriter, r *http.Request) {
			s.holderAnswer(w, http.StatusTooManyRequests, map[string]any{
				"Ask": true, "Problem": "That was often. Wait some minutes, then try again.",
			})
		}
		r.With(slowed(10, time.Minute, func(r *http.Request) string { return r.URL.Path }, often)).
			Post(holders.Path+"/link/{token}", s.enterHolder)
		r.With(slowed(120, time.Minute, s.client, often), slowed(3, 10*time.Minute, func(r *http.Request) string {
			return strings.ToLower(strings.TrimSpace(r.PostFormValue("address")))
		}, often)).Post(holders.Path+"/ask", s.askForLink)
	})
}

// unsought keeps pages about somebody out of search.
func unsought(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Robots-Tag", "noindex")
		next.ServeHTTP(w, r)
	})
}

// visitor is whose page a browser may see; "" for nobody's.
func (s *Server) visitor(r *http.Request) string {
	c, err := r.Cookie(holderCookie)
	if err != nil {
		return ""
	}
	person, err := s.Holders.Visitor(r.Context(), c.Value)
	if err != nil {
		return ""
	}
	return person
}

// looked counts looks at an award's page, those of its holder aside.
func (s *Server) looked(r *http.Request, a badgestore.Award, kind string) {
	if r.Method != http.MethodGet || s.visitor(r) == a.PersonID {
		return
	}
	if err := s.Holders.Looked(r.Context(), a.ID, kind != "text/html"); err != nil {
		s.Log.Error("counting a look", "cause", err.Error())
	}
}

func (s *Server) holder(w http.ResponseWriter, r *http.Request) {
	person := s.visitor(r)
	if person == "" {
		terms, err := s.Holders.Terms(r.Context())
		if err != nil {
			s.missing(w, err)
			return
		}
		s.holderAnswer(w, http.StatusOK, map[string]any{"Ask": true, "Terms": terms})
		return
	}
	s.holderShown(w, r, person, http.StatusOK, "")
}

func (s *Server) holderShown(w http.ResponseWriter, r *http.Request, person string, status int, problem string) {
	page, err := s.Holders.Page(r.Context(), person)
	if errors.Is(err, db.ErrNotFound) {
		s.holderAnswer(w, http.StatusNotFound, map[string]any{"Ask": true, "Problem": "This page is gone."})
		return
	}
	if err != nil {
		s.missing(w, err)
		return
	}
	wallets, err := s.Wallets.Of(r.Context(), person)
	if err != nil {
		s.missing(w, err)
		return
	}
	brought, err := s.Wallets.Brought(r.Context(), person)
	if err != nil {
		s.missing(w, err)
		return
	}
	s.holderAnswer(w, status, map[string]any{
		"Page": page, "Problem": problem, "Now": time.Now(), "Done": r.URL.Query().Get("done"), "Wallets": wallets,
		"Brought": brought,
	})
}

func (s *Server) holderAnswer(w http.ResponseWriter, status int, data map[string]any) {
	s.ownPage(w, holderPage, status, data)
}

// ownPage serves a page that is for one person alone.
func (s *Server) ownPage(w http.ResponseWriter, t *template.Template, status int, data any) {
	var page bytes.Buffer
	if err := t.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(page.Bytes())
}

// enterHolder shows what a link is for and asks for the address to which it was sent: a link is easily forwarded.
func (s *Server) enterHolder(w http.ResponseWriter, r *http.Request) {
	data := map[string]any{"Enter": true}
	if r.Method != http.MethodPost {
		s.holderAnswer(w, http.StatusOK, data)
		return
	}
	address := r.PostFormValue("address")
	visit, err := s.Holders.Enter(r.Context(), chi.URLParam(r, "token"), address)
	switch {
	case errors.Is(err, holders.ErrForwarded):
		data["Problem"] = "This link was sent to another address. It opens the page of whoever it was sent to; " +
			"for your own page, ask for a link of your own below."
		data["Ask"] = true
		s.holderAnswer(w, http.StatusForbidden, data)
	case errors.Is(err, holders.ErrOld):
		s.holderAnswer(w, http.StatusGone, map[string]any{
			"Ask": true, "Problem": "This link is older than 90 days. Ask for a new one below.",
		})
	case errors.Is(err, db.ErrNotFound):
		s.holderAnswer(w, http.StatusNotFound, map[string]any{
			"Ask": true, "Problem": "This link is not valid; it may have been cut short. Ask for a new one below.",
		})
	case err != nil:
		s.missing(w, err)
	default:
		http.SetCookie(w, s.holderCookie(visit, int(holders.VisitHolds.Seconds())))
		http.Redirect(w, r, s.entered(w, r), http.StatusSeeOther)
	}
}

func (s *Server) holderCookie(value string, age int) *http.Cookie {
	return &http.Cookie{
		Name: holderCookie, Value: value, Path: "/open", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteLaxMode,
		Secure: strings.HasPrefix(s.Public, "https://"),
	}
}

func (s *Server) leaveHolder(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, s.holderCookie("", -1))
	http.Redirect(w, r, holders.Path, http.StatusSeeOther)
}

// askForLink answers the same whether anybody is known by the address or not.
func (s *Server) askForLink(w http.ResponseWriter, r *http.Request) {
	err := s.Holders.Ask(r.Context(), r.PostFormValue("address"))
	data := map[string]any{"Ask": true}
	refused, is := refusal.As(err)
	switch {
	case is && refused.Field != "":
		data["Problem"] = "That is not an e-mail address."
	case is:
		data["Problem"] = refused.Detail
	case err != nil:
		s.Log.Error("sending a link", "cause", err.Error())
		data["Problem"] = "The link could not be sent. Try again later, or ask the school."
	default:
		data["Sent"] = true
	}
	s.holderAnswer(w, http.StatusOK, data)
}

// holderDoes lets a holder do something, and shows their page again; what is refused is said there.
func (s *Server) holderDoes(act func(ctx context.Context, person string, form url.Values) (done string, err error),
) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		person := s.visitor(r)
		if person == "" {
			s.holderAnswer(w, http.StatusForbidden, map[string]any{
				"Ask": true, "Problem": "You were away for long. Open the link in your mail again, or ask for a new one.",
			})
			return
		}
		if err := r.ParseForm(); err != nil {
			s.holderShown(w, r, person, http.StatusBadRequest, "That did not arrive whole. Try again.")
			return
		}
		done, err := act(r.Context(), person, r.PostForm)
		if refused, is := refusal.As(err); is {
			problem := refused.Detail
			if refused.Field != "" {
				problem = "The " + refused.Field + " " + problem
			}
			s.holderShown(w, r, person, http.StatusUnprocessableEntity, problem)
			return
		}
		if err != nil {
			s.missing(w, err)
			return
		}
		http.Redirect(w, r, holders.Path+"?done="+url.QueryEscape(done), http.StatusSeeOther)
	}
}

func (s *Server) acceptTerms(ctx context.Context, person string, form url.Values) (string, error) {
	version, _ := strconv.Atoi(form.Get("version"))
	if form.Get("accept") != "yes" {
		return "", refusal.Conflict("", "Tick that you accept the terms; without that nothing is shared.")
	}
	return "terms", s.Holders.Accept(ctx, person, version, form.Get("name"))
}

func (s *Server) nameHolder(ctx context.Context, person string, form url.Values) (string, error) {
	return "name", s.Holders.SetName(ctx, person, form.Get("name"))
}

func (s *Server) shareAward(ctx context.Context, person string, form url.Values) (string, error) {
	share := form.Get("share") == "yes"
	return map[bool]string{true: "shared", false: "taken-back"}[share],
		s.Holders.Share(ctx, person, form.Get("award"), share)
}

func (s *Server) certificate(w http.ResponseWriter, r *http.Request) {
	person := s.visitor(r)
	if person == "" {
		s.holderAnswer(w, http.StatusForbidden, map[string]any{"Ask": true, "Problem": "Open the link in your mail first."})
		return
	}
	pdf, err := s.Holders.Certificate(r.Context(), person, chi.URLParam(r, "id"))
	if refused, is := refusal.As(err); is {
		s.holderShown(w, r, person, http.StatusConflict, refused.Detail)
		return
	}
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/pdf")
	w.Header().Set("Content-Disposition", `attachment; filename="certificate.pdf"`)
	_, _ = w.Write(pdf)
}
