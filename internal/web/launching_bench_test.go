package web_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// learnersIn are the learners of a section, by the register.
func (x *site) learnersIn(code string, p *pupil) (all []string) {
	id := p.sectionID(code)
	for _, e := range x.Standins.School.Enrolments() {
		if e.SectionID == id && e.Role == "student" && !e.Ended {
			all = append(all, e.PersonID)
		}
	}
	return all
}

// How long it takes from what the platform says until the page is there, of 5,000 sections, and how many such
// launches a second are carried out by eight browsers at once. The messages are signed beforehand.
func BenchmarkLaunches(b *testing.B) {
	x := open(b, nil)
	x.Large(5000, 20)
	x.World.Read(x.Register(), false)
	x.Standins.Platform.Courses.KeepValues(false)
	p := x.pupil()
	_, address, err := x.Launches.NewRegistration(b.Context(), "Maud", "Courses")
	require.NoError(b, err)
	status, text := p.joins(address)
	require.Equal(b, 200, status, text)
	asked := func(n int) (all []url.Values) {
		for range n {
			all = append(all, p.asked("PROP-A", x.learnersIn("PROP-A", p)[len(all)%10]))
		}
		return all
	}
	inside := x.Config.Handler
	launch := func(form url.Values) {
		answer := httptest.NewRecorder()
		req := httptest.NewRequest(http.MethodPost, "/lti/launch", strings.NewReader(form.Encode()))
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.AddCookie(&http.Cookie{Name: "kanban_launch", Value: p.browser})
		inside.ServeHTTP(answer, req)
		page := httptest.NewRecorder()
		inside.ServeHTTP(page, httptest.NewRequest(http.MethodGet, answer.Header().Get("Location"), nil))
		if page.Code != http.StatusOK {
			b.Error(page.Code, page.Body.String())
		}
	}
	for b.Loop() {
		var took []time.Duration
		for _, form := range asked(50) {
			started := time.Now()
			launch(form)
			took = append(took, time.Since(started))
		}
		slices.Sort(took)
		b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-to-the-page")
		forms := asked(2000)
		var at atomic.Int64
		var browsers sync.WaitGroup
		started := time.Now()
		for range 8 {
			browsers.Go(func() {
				for i := at.Add(1) - 1; int(i) < len(forms); i = at.Add(1) - 1 {
					launch(forms[i])
				}
			})
		}
		browsers.Wait()
		b.ReportMetric(float64(len(forms))/time.Since(started).Seconds(), "launches/s")
	}
}
