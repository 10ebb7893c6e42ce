package scenario

import (
	"context"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// InCourses lets the course platform join by one address, and opens a course's page as a teacher and as a learner.
func (s *Story) InCourses(ctx context.Context) error {
	s.heading("The course platform joins by one address; a teacher and a learner open the page in their course")
	r, err := client.Post[api.RegistrationAddress](ctx, s.Client, "/registration-addresses",
		api.NewRegistrationAddress{Name: platformSystem})
	if err != nil {
		return err
	}
	if err := s.form(ctx, s.At.Platform+"/lti/join", url.Values{"address": {r.Address}}); err != nil {
		return fmt.Errorf("letting the platform join: %w", err)
	}
	for _, x := range []struct{ who, name, sees string }{
		{"tea-002", "Otto Onion", `class="taught"`}, {"stu-001", "Ada Alder", `class="learnt"`},
	} {
		text, err := s.openCourse(ctx, "sec-prop-a", x.who)
		if err != nil {
			return err
		}
		if !strings.Contains(text, x.sees) {
			return fmt.Errorf("opening the course as %s shows: %s", x.name, text)
		}
		s.tell("%-12s opens the course's page", x.name)
	}
	return nil
}

var (
	hiddenField = regexp.MustCompile(`name="([a-z_]+)" value="([^"]*)"`)
	nextAddress = regexp.MustCompile(`data-next="([^"]+)"`)
	keptValue   = regexp.MustCompile(`data-value="([^"]+)"`)
)

// openCourse opens the link in a course as somebody, as a browser does that keeps no cookies: what binds it to the
// launch is kept by the platform's page.
func (s *Story) openCourse(ctx context.Context, section, as string) (string, error) {
	text, err := s.text(ctx, s.At.Platform+"/lti/open/"+section+"?as="+as, "text/html")
	if err != nil {
		return "", err
	}
	next, kept := nextAddress.FindStringSubmatch(text), keptValue.FindStringSubmatch(text)
	if next == nil || kept == nil {
		return "", fmt.Errorf("the launch does not begin: %s", text)
	}
	if text, err = s.text(ctx, html.UnescapeString(next[1]), "text/html"); err != nil {
		return "", err
	}
	form := url.Values{"kept": {kept[1]}}
	for _, m := range hiddenField.FindAllStringSubmatch(text, -1) {
		form.Set(m[1], html.UnescapeString(m[2]))
	}
	resp, err := s.http.PostForm(s.Client.Address()+"/lti/launch", form)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	page, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("opening the course: %s: %s", resp.Status, page)
	}
	return string(page), err
}
