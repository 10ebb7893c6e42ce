package web

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"kanban/internal/app/launches"
	"kanban/internal/app/teaching"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/wire/api"
	"kanban/internal/wire/lti"
)

var launchPages = template.Must(template.New("course.html").Funcs(template.FuncMap{
	"day":   func(at time.Time) string { return at.UTC().Format("2 January 2006") },
	"exact": func(at time.Time) string { return at.UTC().Format("2 January 2006, 15:04 UTC") },
}).ParseFS(pages, "pages/course.html", "pages/launch_refused.html", "pages/launch_storage.html", "pages/joined.html",
	"pages/parts.html"))

const (
	// launchCookie keeps what binds launches to a browser; it names nobody and lets nobody in.
	launchCookie = "kanban_launch"
	// mostLaunch bounds what a platform sends through a browser, in bytes.
	mostLaunch = 128 << 10
	// coursePath is where pages stand that are open in courses.
	coursePath = "/lti/course/"
	// storageScript keeps values at the platform's page where cookies are blocked.
	storageScript = "/lti/storage.js"
)

// atPlatforms are the addresses at which course platforms and the browsers that they send come here.
var atPlatforms = []outsideOperation{
	{
		operation: operation{
			ID: "lti-keys", Method: http.MethodGet, Path: launches.KeysPath, Status: http.StatusOK,
			Tag:     "course platforms",
			Summary: "The keys with which this installation signs as a tool (RFC 7517, 5)",
		},
		answers: "application/json",
	},
	{
		operation: operation{
			ID: "lti-register", Method: http.MethodGet, Path: launches.RegisterPath + "{token}", Status: http.StatusOK,
			Tag: "course platforms", Summary: "A platform lets this installation register itself (LTI Dynamic Registration 1.0, 2.1)",
		},
		answers: "text/html", query: []string{"openid_configuration", "registration_token"}, refuses: []int{400},
	},
	{
		operation: operation{
			ID: "lti-login", Method: http.MethodGet, Path: launches.LoginPath, Status: http.StatusSeeOther,
			Tag: "course platforms", Summary: "A platform begins a launch (1EdTech Security Framework 1.0, 5.1.1.1)",
		},
		query: []string{
			"iss", "login_hint", "target_link_uri", "client_id", "lti_message_hint", "lti_deployment_id",
			"lti_storage_target",
		},
		refuses: []int{400, 429},
	},
	{
		operation: operation{
			ID: "lti-login-by-form", Method: http.MethodPost, Path: launches.LoginPath, Status: http.StatusSeeOther,
			Tag: "course platforms", Summary: "A platform begins a launch by a form (1EdTech Security Framework 1.0, 5.1.1.1)",
		},
		takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{400, 429},
	},
	{
		operation: operation{
			ID: "lti-launch", Method: http.MethodPost, Path: launches.LaunchPath, Status: http.StatusOK,
			Tag: "course platforms", Summary: "A platform says who opened which link (1EdTech Security Framework 1.0, 5.1.1.3)",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{400},
	},
	{
		operation: operation{
			ID: "lti-course", Method: http.MethodGet, Path: coursePath + "{token}", Status: http.StatusOK,
			Tag: "course platforms", Summary: "A page that stands open in a course, for whoever opened it",
		},
		answers: "text/html", query: []string{"done"}, refuses: []int{400},
	},
	{
		operation: operation{
			ID: "lti-act-in-course", Method: http.MethodPost, Path: coursePath + "{token}",
			Status: http.StatusSeeOther,
			Tag:    "course platforms", Summary: "A teacher brings the class in step, holds it or opens it, from inside the course",
		},
		takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{400, 403},
	},
	{
		operation: operation{
			ID: "lti-storage-script", Method: http.MethodGet, Path: storageScript, Status: http.StatusOK,
			Tag: "course platforms", Summary: "The script by which a platform's page keeps a value where cookies are blocked",
		},
		answers: "text/javascript",
	},
}

// launching registers where course platforms and the browsers that they send come.
func (s *Server) launching(r chi.Router) {
	often := func(w http.ResponseWriter, r *http.Request) {
		s.launchRefused(w, r, http.StatusTooManyRequests, &launches.Refused{
			Detail: "That was often.", Remedy: "Wait a minute, then open the link again.",
		})
	}
	r.Get(launches.KeysPath, s.toolKeys)
	r.Get(launches.RegisterPath+"{token}", s.joinPlatform)
	r.With(slowed(30000, time.Minute, s.client, often)).Get(launches.LoginPath, s.beginLaunch)
	r.With(slowed(30000, time.Minute, s.client, often)).Post(launches.LoginPath, s.beginLaunch)
	r.Post(launches.LaunchPath, s.launch)
	r.Get(coursePath+"{token}", s.showCourse)
	r.With(http.NewCrossOriginProtection().Handler).Post(coursePath+"{token}", s.actInCourse)
	r.Get(storageScript, func(w http.ResponseWriter, r *http.Request) {
		http.ServeFileFS(w, r, pages, "pages/launch_storage.js")
	})
}

func (s *Server) toolKeys(w http.ResponseWriter, r *http.Request) {
	set, err := s.Launches.KeySet(r.Context())
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Cache-Control", "public, max-age=300")
	s.serveJSON(w, r, "application/json", set)
}

// framed lets an answer stand inside pages of some origins; of any where it is not known which.
func framed(w http.ResponseWriter, origins []string) {
	if len(origins) == 0 {
		origins = []string{"*"}
	}
	policy := w.Header().Get("Content-Security-Policy")
	w.Header().Set("Content-Security-Policy", strings.Replace(policy, "frame-ancestors 'none'",
		"frame-ancestors 'self' "+strings.Join(origins, " "), 1))
}

// launchAnswer answers with a page that stands inside the platform's.
func (s *Server) launchAnswer(w http.ResponseWriter, status int, name string, origins []string, data any) {
	var page bytes.Buffer
	if err := launchPages.ExecuteTemplate(&page, name, data); err != nil {
		s.missing(w, err)
		return
	}
	framed(w, origins)
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(page.Bytes())
}

// launchRefused says why a page is not opened, and what somebody has to do.
func (s *Server) launchRefused(w http.ResponseWriter, r *http.Request, status int, err error) {
	var refused *launches.Refused
	if !errors.As(err, &refused) {
		s.Log.Error("opening a page from a course platform", "cause", err.Error())
		status = http.StatusInternalServerError
		refused = &launches.Refused{Detail: "Something went wrong on our side; it was logged.", Remedy: "Try again in a minute."}
	} else {
		s.Log.Warn("a course platform was refused", "path", r.URL.Path[:min(len(r.URL.Path), 12)], "cause", refused.Detail)
	}
	s.launchAnswer(w, status, "launch_refused.html", nil, refused)
}

func (s *Server) joinPlatform(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	j, err := s.Launches.Join(r.Context(), chi.URLParam(r, "token"), q.Get("openid_configuration"), q.Get("registration_token"))
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	s.launchAnswer(w, http.StatusOK, "joined.html", nil, j)
}

func (s *Server) beginLaunch(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, mostLaunch)
	if err := r.ParseForm(); err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, &launches.Refused{
			Detail: "What the platform sent cannot be read.", Remedy: "The platform's administrator has to look.",
		})
		return
	}
	browser := ""
	if c, err := r.Cookie(launchCookie); err == nil && len(c.Value) < 100 {
		browser = c.Value
	}
	b, err := s.Launches.Begin(r.Context(), lti.LoginOf(r.Form), browser)
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	// Browsers keep it inside the platform's page only with these three (RFC 6265bis, 5.6.7; CHIPS).
	http.SetCookie(w, &http.Cookie{
		Name: launchCookie, Value: b.Browser, Path: "/lti/", HttpOnly: true, Secure: true,
		SameSite:    http.SameSiteNoneMode,
		Partitioned: true, MaxAge: int((24 * time.Hour).Seconds()),
	})
	if b.Storage == "" {
		w.Header().Set("Cache-Control", "no-store")
		http.Redirect(w, r, b.Address, http.StatusSeeOther)
		return
	}
	s.launchAnswer(w, http.StatusOK, "launch_storage.html", nil, map[string]any{
		"Keep": true, "Storage": b.Storage, "Origin": b.Origin, "Key": storageKey(b.State), "Value": b.Browser,
		"Next": b.Address,
	})
}

// storageKey names the value of a launch at the platform's page.
func storageKey(state string) string { return launchCookie + "_" + state[:min(len(state), 100)] }

func (s *Server) launch(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, mostLaunch)
	if err := r.ParseForm(); err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, &launches.Refused{
			Detail: "What the platform sent cannot be read, or is too long.", Remedy: "The platform's administrator has to look.",
		})
		return
	}
	form := r.PostForm
	if form.Get("oauth_consumer_key") != "" || form.Get("lti_message_type") == "basic-lti-launch-request" {
		s.launchRefused(w, r, http.StatusBadRequest, &launches.Refused{
			Detail: "The platform opens links by key and secret, as LTI 1.1 did.",
			Remedy: "Let it join by LTI 1.3: an administrator of Kanban makes an address under Connections, which the platform's administrator pastes there.",
		})
		return
	}
	back := launches.Back{
		IDToken: form.Get("id_token"), State: form.Get("state"), Browser: form.Get("kept"), Error: form.Get("error"),
		Description: form.Get("error_description"),
	}
	if c, err := r.Cookie(launchCookie); err == nil {
		back.Browser = c.Value
	}
	l, err := s.Launches.End(r.Context(), back)
	if errors.Is(err, launches.ErrStorage) {
		s.askStorage(w, r, back)
		return
	}
	var token string
	if err == nil {
		token, err = s.Launches.Keep(r.Context(), l)
	}
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	if token != "" { // an address of its own, so that the page can be loaded again
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Referrer-Policy", "no-referrer")
		http.Redirect(w, r, coursePath+token, http.StatusSeeOther)
		return
	}
	s.launchAnswer(w, http.StatusOK, "course.html", l.Origins(), coursePage{
		Launch: l, Title: cmp.Or(l.Message.Context.Title, l.Message.Context.Label), Name: l.Message.Name,
	})
}

// showCourse shows a page that stands open in a course.
func (s *Server) showCourse(w http.ResponseWriter, r *http.Request) {
	p, err := s.Launches.Look(r.Context(), chi.URLParam(r, "token"))
	var page coursePage
	if err == nil {
		page, err = s.coursePage(r.Context(), p)
	}
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	page.Path, page.Done = r.URL.Path, r.URL.Query().Get("done")
	s.launchAnswer(w, http.StatusOK, "course.html", p.Origins(), page)
}

// actInCourse does to a class what its teacher asks for from inside the course.
func (s *Server) actInCourse(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, mostLaunch)
	p, err := s.Launches.Look(r.Context(), chi.URLParam(r, "token"))
	if err == nil {
		err = s.act(r.Context(), p, r.PostFormValue("section"), r.PostFormValue("act"))
	}
	done := r.PostFormValue("act")
	var not *refusal.Error
	if errors.As(err, &not) { // somebody else was faster, or it is not theirs by now: the page says how it is
		done, err = "refused", nil
	}
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	http.Redirect(w, r, r.URL.Path+"?done="+url.QueryEscape(done), http.StatusSeeOther)
}

// act does something to the class of a section, which whoever asks must teach now, with all that is linked to it.
func (s *Server) act(ctx context.Context, p launches.Page, sectionID, act string) error {
	page, err := s.coursePage(ctx, p)
	if err != nil {
		return err
	}
	for _, x := range page.Teacher {
		if x.SectionID != sectionID || !x.Acts {
			continue
		}
		who, pairing := p.Person.Name(), x.Pairing.ID
		switch act {
		case "sync":
			n, err := s.Runs.SyncNow(ctx, who, "", "", []string{pairing})
			if err == nil && n == 0 {
				err = refusal.Conflict("", "it is being brought in step already, or is paused")
			}
			return err
		case "hold":
			return s.Runs.HoldClass(ctx, who, pairing)
		case "open":
			return s.Runs.OpenClass(ctx, who, pairing, nil)
		}
	}
	return refusal.Conflict("", "that is not yours to do here, by the register")
}

// askStorage asks the platform's page for what it keeps for the browser, and comes back with it.
func (s *Server) askStorage(w http.ResponseWriter, r *http.Request, back launches.Back) {
	at, err := s.Launches.Storage(r.Context(), back.State)
	if err != nil {
		s.launchRefused(w, r, http.StatusBadRequest, err)
		return
	}
	s.launchAnswer(w, http.StatusOK, "launch_storage.html", nil, map[string]any{
		"Keep": false, "Storage": at.Storage, "Origin": at.Origin, "Key": storageKey(back.State),
		"Next": launches.LaunchPath, "Fields": map[string]string{
			"id_token": back.IDToken, "state": back.State, "error": back.Error, "error_description": back.Description,
		},
	})
}

// coursePage is what somebody sees who opened a link in a course.
type coursePage struct {
	launches.Launch
	Title   string
	Name    string
	Teacher []taughtPage
	Learner []api.OwnSection
	Awards  []badgestore.ListedAward
	Return  string
	Path    string // of the page itself
	Done    string // what was just asked for
}

// taughtPage is a section as its teacher sees it from inside the course.
type taughtPage struct {
	teaching.Page
	Acts bool // whether they may do something to its class: it is theirs alone
}

// coursePage looks up what the register lets somebody see who opened a link: whoever teaches a section of the
// course sees it, whoever learns in it sees how far they have come. What the platform says of their role decides
// nothing.
func (s *Server) coursePage(ctx context.Context, l launches.Page) (page coursePage, err error) {
	page = coursePage{
		Launch: l.Launch, Title: cmp.Or(l.Course.Title, l.Course.Label), Name: l.Person.Name(), Return: l.Return,
	}
	teaches, learnt, err := s.Launches.In(ctx, l.Person.ID, *l.Course)
	if err == nil && teaches {
		page.Teacher, err = s.taughtPages(ctx, l)
	}
	if err != nil {
		return page, err
	}
	for _, x := range learnt {
		one := api.OwnSection{ID: x.ID, Section: x.Title}
		look, err := s.Facts.Progress(ctx, l.Person.ID, x.ID)
		if err != nil {
			return page, err
		}
		if len(look.Modules) > 0 { // the course has an outline
			shown := shownProgress(look)
			one.Progress = &shown
		}
		page.Learner = append(page.Learner, one)
	}
	if len(page.Learner) > 0 {
		page.Awards, err = s.Badges.Awards(ctx, badgestore.AwardFilter{PersonID: l.Person.ID, Limit: 200})
	}
	return page, err
}

// taughtPages are the sections of a course that somebody teaches.
func (s *Server) taughtPages(ctx context.Context, l launches.Page) (pages []taughtPage, err error) {
	taught, err := s.Teaching.Taught(ctx, l.Person.ID)
	if err != nil {
		return nil, err
	}
	for _, id := range l.Course.SectionIDs {
		if !slices.Contains(taught, id) {
			continue
		}
		one, err := s.Teaching.Page(ctx, uuid.Nil.String(), id)
		if err != nil {
			return nil, err
		}
		pages = append(pages, taughtPage{one, one.Pairing != nil && allIn(one.Parts(), taught)})
	}
	return pages, nil
}

// allIn reports whether all ids are among some.
func allIn(ids, among []string) bool {
	return !slices.ContainsFunc(ids, func(id string) bool { return !slices.Contains(among, id) })
}
