package web_test

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/learning"
	"kanban/internal/standin/coursepages"
	"kanban/internal/wire/api"
)

// pupil is a browser in a course of the platform: it reaches Kanban by its public name, and keeps what is only for
// https.
type pupil struct {
	*visitor
	tb      testing.TB
	x       *site
	browser string // what Kanban gave it to keep
	blocked bool   // it keeps no cookies
	at      string // the page that stands open
}

func (x *site) pupil() *pupil {
	v := x.visitor()
	v.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &pupil{visitor: v, x: x, tb: x.t}
}

// goes makes a request and keeps the cookie of launches, which a jar would keep for https alone.
func (p *pupil) goes(method, address string, form url.Values) (*http.Response, string) {
	p.tb.Helper()
	req, err := http.NewRequestWithContext(p.tb.Context(), method, address, strings.NewReader(form.Encode()))
	require.NoError(p.tb, err)
	if method == http.MethodPost {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if p.browser != "" && strings.HasPrefix(address, kanban) {
		req.AddCookie(&http.Cookie{Name: "kanban_launch", Value: p.browser})
	}
	resp, err := p.Do(req)
	require.NoError(p.tb, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(p.tb, err)
	if _, body, found := strings.Cut(string(text), "</style>\n</head>"); found {
		text = []byte(body)
	}
	for _, c := range resp.Cookies() {
		if c.Name == "kanban_launch" && !p.blocked {
			assert.True(p.tb, c.Secure && c.HttpOnly && c.Partitioned && c.SameSite == http.SameSiteNoneMode, c)
			p.browser = c.Value
		}
	}
	return resp, string(text)
}

var (
	hiddenField = regexp.MustCompile(`name="([a-z_]+)" value="([^"]*)"`)
	formAction  = regexp.MustCompile(`action="([^"]+)"`)
	nextAddress = regexp.MustCompile(`data-next="([^"]+)"`)
)

// asked goes with a browser to the platform and to Kanban, until the platform has said who it is; the form is what it
// would send on.
func (p *pupil) asked(section, as string) url.Values {
	p.tb.Helper()
	resp, text := p.goes("GET", p.x.Standins.Addresses.Platform+"/lti/open/"+p.sectionID(section)+"?as="+as, nil)
	require.Equal(p.tb, 303, resp.StatusCode, text)
	resp, text = p.goes("GET", resp.Header.Get("Location"), nil)
	next := resp.Header.Get("Location")
	if m := nextAddress.FindStringSubmatch(text); m != nil { // the platform's page keeps something first
		next = strings.ReplaceAll(m[1], "&amp;", "&")
	}
	require.NotEmpty(p.tb, next, text)
	resp, text = p.goes("GET", next, nil)
	require.Equal(p.tb, 200, resp.StatusCode, text)
	form := url.Values{}
	for _, m := range hiddenField.FindAllStringSubmatch(text, -1) {
		form.Set(m[1], strings.NewReplacer("&#43;", "+", "&amp;", "&").Replace(m[2]))
	}
	require.Equal(p.tb, kanban+"/lti/launch", formAction.FindStringSubmatch(text)[1])
	return form
}

// sectionID is how the register calls a section.
func (p *pupil) sectionID(code string) string {
	for _, x := range p.x.Standins.School.Sections() {
		if x.Code == code {
			return x.ID
		}
	}
	require.Fail(p.tb, "no section", code)
	return ""
}

// opens opens the link in a course as somebody, and gives what they see.
func (p *pupil) opens(section, as string) (int, string) {
	p.tb.Helper()
	resp, text := p.goes("POST", kanban+"/lti/launch", p.asked(section, as))
	if p.at = ""; resp.StatusCode == 303 { // to an address of its own
		p.at = kanban + resp.Header.Get("Location")
		resp, text = p.goes("GET", p.at, nil)
	}
	return resp.StatusCode, text
}

// joins lets the platform join by an address, and gives the page that its administrator sees.
func (p *pupil) joins(address string) (int, string) {
	p.tb.Helper()
	resp, text := p.goes("POST", p.x.Standins.Addresses.Platform+"/lti/join", url.Values{"address": {address}})
	require.Equal(p.tb, 303, resp.StatusCode, text)
	resp, text = p.goes("GET", resp.Header.Get("Location"), nil)
	return resp.StatusCode, text
}

// joined is a site that a platform has joined, with a browser, and the platform's interface.
func joined(t *testing.T) (x *talk, p *pupil, id string) {
	x = &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	x.Standins.Platform.Courses.KeepValues(false)
	p = x.pupil()
	r := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Courses"})
	status, text := p.joins(r.Address)
	require.Equal(t, 200, status, text)
	return x, p, get[api.Page[api.RegistrationAddress]](x, "/registration-addresses").Items[0].InterfaceID
}

// walkCoursePages walks what is seen and decided of a platform that opens pages.
func walkCoursePages(x *talk, _ *story) {
	x.Standins.Platform.Courses.KeepValues(false)
	p := x.site.pupil()
	r := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Courses"})
	status, text := p.joins(r.Address)
	require.Equal(x.site.t, 200, status, text)
	gone := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "None"})
	x.do(204, "DELETE", "/registration-addresses/"+gone.ID, nil)
	all := get[api.Page[api.RegistrationAddress]](x, "/registration-addresses")
	require.Equal(x.site.t, 1, all.Total)
	id := all.Items[0].InterfaceID
	assert.Equal(x.site.t, kanban+"/lti/login", get[api.ToolAddresses](x, "/tool-addresses").Login)
	x.do(204, "POST", "/tool-keys", nil)
	status, text = p.opens("PROP-A", "stu-001")
	require.Equal(x.site.t, 200, status, text)
	d := get[api.Page[api.Deployment]](x, "/interfaces/"+id+"/deployments").Items[0]
	x.do(204, "PUT", "/deployments/"+d.ID, api.Admission{Admitted: true})
	c := get[api.Page[api.CoursePage]](x, "/interfaces/"+id+"/course-pages").Items[0]
	x.do(204, "PUT", "/course-pages/"+c.ID+"/sections", api.CoursePageSections{Sections: []string{c.Sections[0].ID}})
	assert.NotEmpty(x.site.t, get[api.Page[api.PageOpening]](x, "/course-pages/"+c.ID+"/openings").Items)
	assert.NotEmpty(x.site.t, get[api.Page[api.CoursePageCandidate]](x, "/course-pages/"+c.ID+"/candidates").Items)
	require.NoError(x.site.t, x.Standins.School.SetEmail("stu-009", x.Person("stu-010").Email))
	_, _ = p.opens("PROP-A", "stu-009")
	u := get[api.Page[api.Unrecognised]](x, "/interfaces/"+id+"/unrecognised?limit=5")
	require.Len(x.site.t, u.Items, 1)
	x.do(204, "PUT", "/unrecognised/"+u.Items[0].ID, api.WhoItIs{PersonID: x.Person("stu-009").ID})
}

func TestAPlatformJoinsByOneAddress(t *testing.T) {
	x, p, id := joined(t)
	courses := get[api.Interface](x, "/interfaces/"+id)
	assert.Equal(t, "lti", courses.Kind)
	assert.Equal(t, x.Standins.Addresses.Platform+"/lti", courses.Settings["issuer"])
	assert.Equal(t, x.Standins.Platform.Courses.Tools(), []string{courses.Settings["clientId"]})
	d := get[api.Page[api.Deployment]](x, "/interfaces/"+id+"/deployments")
	require.Len(t, d.Items, 1)
	assert.True(t, d.Items[0].Admitted)
	report := as[[]api.Report](x, x.do(200, "POST", "/interfaces/"+id+"/probe", nil))
	assert.Equal(t, "unproven", report[0].State, report)

	// Each address works once, for a while, for platforms.
	r := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Second"})
	refused := func(address, why string) {
		t.Helper()
		resp, text := p.goes("GET", address, nil)
		assert.Equal(t, 400, resp.StatusCode)
		assert.Contains(t, text, why)
	}
	refused(r.Address, "did not say where it describes itself")
	refused(kanban+"/lti/register/none", "is not known here")
	refused(r.Address+"?openid_configuration=nothing", "is not an address")
	refused(r.Address+"?openid_configuration="+url.QueryEscape(x.Standins.Addresses.Platform+"/lti/keys"), "does not say its issuer")
	refused(r.Address+"?openid_configuration="+url.QueryEscape(x.Standins.Addresses.Platform+"/"), "is not what platforms say")
	refused(r.Address+"?openid_configuration="+url.QueryEscape("http://127.0.0.1:1/none"), "does not answer")
	refused(r.Address+"?openid_configuration="+url.QueryEscape(x.Standins.Addresses.Platform+"/lti/.well-known/openid-configuration")+
		"&registration_token=stale", "the registration token is not known")
	status, text := p.joins(r.Address) // none of these has used it up
	require.Equal(t, 200, status, text)
	refused(r.Address+"?openid_configuration=x", "was used already")
	assert.Len(t, x.Standins.Platform.Courses.Tools(), 2)

	same := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "courses"})
	status, text = p.joins(same.Address)
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "Courses has joined already")
	assert.Len(t, x.Standins.Platform.Courses.Tools(), 2)
	x.do(422, "POST", "/registration-addresses", api.NewRegistrationAddress{Name: " "})
	x.Connect("xapi", "Learning", map[string]string{}) // one that is there gets one more interface
	more := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Learning"})
	status, text = p.joins(more.Address)
	require.Equal(t, 200, status, text)
	assert.Equal(t, "Learning: course pages", get[api.Interface](x, "/interfaces/"+
		get[api.Page[api.RegistrationAddress]](x, "/registration-addresses").Items[0].InterfaceID).Name)
	gone := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Third"})
	x.do(204, "DELETE", "/registration-addresses/"+gone.ID, nil)
	refused(gone.Address+"?openid_configuration=x", "is not known here")
	x.do(404, "DELETE", "/registration-addresses/"+r.ID, nil)
}

// Two tabs at one address register once.
func TestAPlatformJoinsOnce(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	r := made[api.RegistrationAddress](x, "/registration-addresses", api.NewRegistrationAddress{Name: "Courses"})
	var tabs sync.WaitGroup
	got := make([]int, 4)
	for i := range got {
		tabs.Go(func() { got[i], _ = x.pupil().joins(r.Address) })
	}
	tabs.Wait()
	assert.ElementsMatch(t, []int{200, 400, 400, 400}, got)
	assert.Len(t, x.Standins.Platform.Courses.Tools(), 1)
	assert.Len(t, get[api.Page[api.Interface]](x, "/interfaces").Items, 1)
}

func TestALaunchShowsWhatTheRegisterSays(t *testing.T) {
	x, p, id := joined(t)
	section := x.Section("PROP-A")
	x.do(204, "PUT", "/courses/"+section.CourseID+"/outline", learning.Outline{Modules: []learning.Module{
		{ID: "m1", Title: "Cuttings", Activities: []learning.Activity{{
			ID: "a1", Title: "Clean tools",
			Kind: learning.Lesson,
		}}},
	}})
	ben := "" // who teaches it
	for _, e := range x.Standins.School.Enrolments() {
		if e.SectionID == p.sectionID("PROP-A") && e.Role == "teacher" && !e.Ended {
			ben = e.PersonID
		}
	}
	status, text := p.opens("PROP-A", ben)
	require.Equal(t, 200, status, text)
	assert.Contains(t, text, section.Title)
	assert.Contains(t, text, "The section has no class outside yet.")
	assert.NotContains(t, text, "Cuttings")
	status, text = p.opens("PROP-A", "stu-001")
	require.Equal(t, 200, status, text)
	assert.Contains(t, text, "No badge yet.")
	_, text = p.opens("ORCH-A", "stu-001")
	assert.Contains(t, text, "The register does not have you in this section.")
	_, text = p.opens("PROP-A", coursepages.Test)
	assert.Contains(t, text, "This is a test user")

	// Who opened it is counted, and who never did is listed first.
	courses := get[api.Page[api.CoursePage]](x, "/interfaces/"+id+"/course-pages")
	require.Equal(t, 2, courses.Total)
	require.Equal(t, "PROP-A", courses.Items[0].Label)
	assert.Equal(t, []any{1, section.ID, 2}, []any{
		len(courses.Items[0].Sections), courses.Items[0].Sections[0].ID, courses.Items[0].People,
	})
	_, _ = p.opens("PROP-A", "stu-001")
	all := get[api.Page[api.PageOpening]](x, "/course-pages/"+courses.Items[0].ID+"/openings")
	require.Greater(t, all.Total, 2)
	assert.Zero(t, all.Items[0].Times)
	times := map[string]int64{}
	for _, o := range all.Items {
		times[o.PersonID] = o.Times
	}
	assert.Equal(t, []int64{2, 1, 0}, []int64{
		times[x.Person("stu-001").ID], times[x.Person(ben).ID],
		times[x.Person("stu-002").ID],
	})
	report := as[[]api.Report](x, x.do(200, "POST", "/interfaces/"+id+"/probe", nil))
	assert.Equal(t, "works", report[0].State, report)
}

// The platform says who somebody is, and Kanban never guesses whom of the register that means.
func TestALaunchGuessesNobody(t *testing.T) {
	x, p, id := joined(t)
	lists := func() api.Page[api.Unrecognised] {
		return get[api.Page[api.Unrecognised]](x, "/interfaces/"+id+"/unrecognised")
	}
	x.Standins.Platform.Courses.Lie(coursepages.NoIDs) // the address alone
	_, text := p.opens("PROP-A", "stu-001")
	assert.Contains(t, text, "Kanban does not know yet which section this course is", "nothing names it")
	courses := get[api.Page[api.CoursePage]](x, "/interfaces/"+id+"/course-pages?undecided=true")
	require.Len(t, courses.Items, 1)
	section := x.Section("PROP-A").ID
	could := get[api.Page[api.CoursePageCandidate]](x, "/course-pages/"+courses.Items[0].ID+"/candidates")
	require.NotEmpty(t, could.Items)
	assert.Equal(t, []any{section, 1, 1, 100}, []any{
		could.Items[0].Section.ID, could.Items[0].Shared, could.Items[0].Opened, could.Items[0].Similar,
	})
	x.do(204, "PUT", "/course-pages/"+courses.Items[0].ID+"/sections",
		api.CoursePageSections{Sections: []string{section}})
	said := get[api.Page[api.CoursePage]](x, "/interfaces/"+id+"/course-pages").Items[0]
	assert.Equal(t, []any{"Maud", 1}, []any{said.DecidedBy, said.People})
	_, text = p.opens("PROP-A", "stu-001")
	assert.Contains(t, text, "No badge yet.")
	x.do(404, "PUT", "/course-pages/"+courses.Items[0].ID+"/sections", api.CoursePageSections{Sections: []string{id}})

	require.NoError(t, x.Standins.School.SetEmail("stu-002", "somebody.new@fernmoor.example"))
	_, text = p.opens("PROP-A", "stu-002") // the register was not read since
	assert.Contains(t, text, "Kanban does not know who you are here")
	require.Len(t, lists().Items, 1)
	x.do(204, "PUT", "/unrecognised/"+lists().Items[0].ID, api.WhoItIs{PersonID: x.Person("stu-002").ID})
	assert.Empty(t, lists().Items)
	_, text = p.opens("PROP-A", "stu-002")
	assert.Contains(t, text, "No badge yet.")

	// Whose account it is can be taken back, and said of somebody else.
	account := "/people/" + x.Person("stu-002").ID + "/accounts/" + id
	x.do(204, "PUT", account, api.AccountChoice{AccountID: "account-stu-002", Not: true})
	_, text = p.opens("PROP-A", "stu-002")
	assert.Contains(t, text, "Kanban does not know who you are here")
	require.Len(t, lists().Items, 1)
	whose := "/unrecognised/" + lists().Items[0].ID
	x.do(204, "PUT", whose, api.WhoItIs{PersonID: x.Person("stu-011").ID})
	x.do(409, "PUT", whose, api.WhoItIs{PersonID: x.Person("stu-002").ID})
	_, text = p.opens("PROP-A", "stu-002")
	assert.Contains(t, text, x.Person("stu-011").Name())
	x.do(204, "DELETE", "/people/"+x.Person("stu-011").ID+"/accounts/"+id, nil)

	// The identifier is one person's and the address another's.
	x.Standins.Platform.Courses.Lie(coursepages.Right)
	require.NoError(t, x.Standins.School.SetEmail("stu-008", x.Person("stu-010").Email))
	_, text = p.opens("PROP-A", "stu-008")
	assert.Regexp(t, `what the platform says fits .+ and .+`, text)
	u := lists()
	require.Equal(t, 1, u.Total)
	x.do(404, "PUT", "/unrecognised/"+id, api.WhoItIs{PersonID: x.Person("stu-008").ID})
}

// What a platform gets wrong opens nothing, says what it is, and counts nothing.
func TestALaunchThatLies(t *testing.T) {
	x, p, id := joined(t)
	courses := x.Standins.Platform.Courses
	_, _ = p.opens("PROP-A", "stu-001")
	for wrong, says := range map[coursepages.Wrong]string{
		coursepages.Expired: "ended at", coursepages.OfTomorrow: "is of", coursepages.OtherKey: "cannot be believed",
		coursepages.Unsigned: "cannot be believed", coursepages.SharedSecret: "cannot be believed",
		coursepages.OtherIssuer: "cannot be believed", coursepages.OtherClient: "cannot be believed",
		coursepages.TwoClients: "for other clients too", coursepages.OtherParty: "made for another client",
		coursepages.OtherNonce: "the nonce differs", coursepages.OldNonce: "the nonce differs",
		coursepages.OtherDeployment: "nobody has admitted", coursepages.NoDeployment: "by which deployment",
		coursepages.NoRoles: "has no roles", coursepages.NoLink: "which link was opened", coursepages.OlderVersion: "version",
		coursepages.OtherMessage: "are not understood", coursepages.Huge: "bytes",
		coursepages.Broken:        "cannot be believed",
		coursepages.LoginRequired: "does not say who opened the link", coursepages.OtherState: "opened already, or it took too long",
	} {
		courses.Lie(wrong)
		status, text := p.opens("PROP-A", "stu-001")
		assert.Equal(t, 400, status, wrong)
		assert.Contains(t, text, says, wrong)
		assert.Contains(t, text, `id="remedy"`, wrong)
		assert.NotContains(t, text, "No badge yet", wrong)
	}
	courses.Lie(coursepages.Anonymous)
	_, text := p.opens("PROP-A", "stu-001")
	assert.Contains(t, text, "does not say who opened the link")
	courses.Lie(coursepages.Right)
	pages := get[api.Page[api.CoursePage]](x, "/interfaces/"+id+"/course-pages")
	all := get[api.Page[api.PageOpening]](x, "/course-pages/"+pages.Items[0].ID+"/openings")
	for _, o := range all.Items {
		assert.LessOrEqual(t, o.Times, int64(1), o)
	}
	// A deployment that nobody knew waits, until somebody admits it; and opens nothing when it is shut out again.
	waits := get[api.Page[api.Deployment]](x, "/interfaces/"+id+"/deployments").Items[0]
	assert.Equal(t, []any{"somebody-elses", false}, []any{waits.Deployment, waits.Admitted})
	courses.Lie(coursepages.OtherDeployment)
	x.do(204, "PUT", "/deployments/"+waits.ID, api.Admission{Admitted: true})
	status, _ := p.opens("PROP-A", "stu-001")
	assert.Equal(t, 200, status)
	x.do(204, "PUT", "/deployments/"+waits.ID, api.Admission{Admitted: false})
	status, _ = p.opens("PROP-A", "stu-001")
	assert.Equal(t, 400, status)
	x.do(404, "PUT", "/deployments/"+id, api.Admission{Admitted: true})
	courses.Lie(coursepages.Right)

	courses.NewKey() // its keys are read again
	status, text = p.opens("PROP-A", "stu-001")
	assert.Equal(t, 200, status, text)
}

// What is posted is good for one browser, once.
func TestALaunchIsForOneBrowser(t *testing.T) {
	x, p, _ := joined(t)
	launch := kanban + "/lti/launch"
	form := p.asked("PROP-A", "stu-001")
	thief := x.pupil()
	resp, text := thief.goes("POST", launch, form)
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, text, "not known to be the one that began")
	thief.browser = "guessed"
	resp, _ = thief.goes("POST", launch, form)
	assert.Equal(t, 400, resp.StatusCode)
	_ = thief.asked("PROP-A", "stu-002") // one that has begun itself
	resp, _ = thief.goes("POST", launch, form)
	assert.Equal(t, 400, resp.StatusCode)
	resp, _ = p.goes("POST", launch, form)
	assert.Equal(t, 303, resp.StatusCode, "whoever began is not kept out by them")
	resp, text = p.goes("POST", launch, form)
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, text, "opened already")

	form = p.asked("PROP-A", "stu-001")
	var tabs sync.WaitGroup
	got := make([]int, 5)
	for i := range got {
		tabs.Go(func() {
			same := x.pupil()
			same.browser = p.browser
			resp, _ := same.goes("POST", launch, form)
			got[i] = resp.StatusCode
		})
	}
	tabs.Wait()
	assert.ElementsMatch(t, []int{303, 400, 400, 400, 400}, got)

	first, second := p.asked("PROP-A", "stu-001"), p.asked("PROP-A", "stu-002") // two tabs of one browser
	first.Set("id_token", second.Get("id_token"))
	_, text = p.goes("POST", launch, first)
	assert.Contains(t, text, "the nonce differs", "a token is good for the state with which it came")
	resp, _ = p.goes("POST", launch, second)
	assert.Equal(t, 303, resp.StatusCode)

	resp, text = p.goes("POST", launch, url.Values{})
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, text, "(state)")
	_, text = p.goes("POST", launch, url.Values{"oauth_consumer_key": {"k"}, "lti_message_type": {"basic-lti-launch-request"}})
	assert.Contains(t, text, "by key and secret")
	resp, _ = p.goes("POST", launch, url.Values{"id_token": {strings.Repeat("x", 200_000)}})
	assert.Equal(t, 400, resp.StatusCode)
	_, text = p.goes("GET", kanban+"/lti/login?iss=https://nobody.example&login_hint=x&target_link_uri=y", nil)
	assert.Contains(t, text, "has not joined Kanban")
	_, text = p.goes("POST", kanban+"/lti/login", url.Values{"iss": {"x"}})
	assert.Contains(t, text, "did not say")
	x.Standins.Platform.Courses.NewKey()
}

// Where the browser keeps no cookies, the platform's page keeps what binds a launch to it.
func TestALaunchWithoutCookies(t *testing.T) {
	x, p, _ := joined(t)
	x.Standins.Platform.Courses.KeepValues(true)
	p.blocked = true
	resp, text := p.goes("GET", x.Standins.Addresses.Platform+"/lti/open/"+p.sectionID("PROP-A")+"?as=stu-001", nil)
	resp, text = p.goes("GET", resp.Header.Get("Location"), nil)
	require.Equal(t, 200, resp.StatusCode)
	value := regexp.MustCompile(`data-value="([^"]+)"`).FindStringSubmatch(text)[1]
	key := regexp.MustCompile(`data-key="([^"]+)"`).FindStringSubmatch(text)[1]
	assert.Contains(t, text, `data-origin="`+x.Standins.Addresses.Platform+`"`, "nobody else is given it")
	next := strings.ReplaceAll(nextAddress.FindStringSubmatch(text)[1], "&amp;", "&")
	_, text = p.goes("GET", next, nil)
	form := url.Values{}
	for _, m := range hiddenField.FindAllStringSubmatch(text, -1) {
		form.Set(m[1], strings.NewReplacer("&#43;", "+").Replace(m[2]))
	}
	resp, text = p.goes("POST", kanban+"/lti/launch", form)
	require.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, text, `data-key="`+key+`"`)
	assert.NotContains(t, text, value, "it is asked for, not said")
	form.Set("kept", "nothing")
	resp, _ = p.goes("POST", kanban+"/lti/launch", form)
	assert.Equal(t, 400, resp.StatusCode)
	form.Set("kept", value)
	resp, _ = p.goes("POST", kanban+"/lti/launch", form)
	require.Equal(t, 303, resp.StatusCode)
	resp, text = p.goes("GET", kanban+resp.Header.Get("Location"), nil)
	assert.Contains(t, text, "No badge yet.")
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"),
		"frame-ancestors 'self' "+x.Standins.Addresses.Platform+";", "nobody else's page may hold it")
}

// A teacher repairs her class from inside the course; nobody else can, and she only as long as she teaches it.
func TestATeacherActsInTheCourse(t *testing.T) {
	x, p, id := joined(t)
	section := x.Section("PROP-A")
	pairing := made[api.Pairing](x, "/pairings", api.NewPairing{
		SectionID: section.ID, InterfaceID: x.Workspace().ID,
	})
	teacher := ""
	for _, e := range x.Standins.School.Enrolments() {
		if e.SectionID == p.sectionID("PROP-A") && e.Role == "teacher" && !e.Ended {
			teacher = e.PersonID
		}
	}
	act := func(of *pupil, section, act string) string {
		t.Helper()
		resp, text := of.goes("POST", of.at, url.Values{"section": {section}, "act": {act}})
		if resp.StatusCode == 303 {
			_, text = of.goes("GET", kanban+resp.Header.Get("Location"), nil)
		}
		return text
	}
	held := func() bool { return get[api.Pairing](x, "/pairings/"+pairing.ID).Policy.Hold }
	_, text := p.opens("PROP-A", teacher)
	require.Contains(t, text, "first run")
	x.Sync(pairing.ID, true)
	_, text = p.goes("GET", p.at, nil)
	require.Contains(t, text, "Sync now")
	assert.Contains(t, act(p, section.ID, "hold"), "The class is held")
	assert.True(t, held())
	assert.Contains(t, act(p, section.ID, "hold"), "It was not done", "it is held already")
	assert.Contains(t, act(p, section.ID, "open"), "The class is open")
	assert.False(t, held())
	assert.Contains(t, act(p, section.ID, "sync"), "It is brought in step now")
	trail := get[api.Page[api.AuditEntry]](x, "/audit-entries?text=asked+for+runs").Items
	require.Len(t, trail, 1)
	assert.Equal(t, x.Person(teacher).Name(), trail[0].Who)
	assert.Contains(t, act(p, x.Section("ORCH-A").ID, "sync"), "It was not done")
	assert.Contains(t, act(p, section.ID, "remove"), "It was not done")
	resp, _ := p.goes("GET", p.at, nil)
	assert.Equal(t, 200, resp.StatusCode, "it can be loaded again")

	learner := x.site.pupil()
	_, text = learner.opens("PROP-A", "stu-001")
	assert.NotContains(t, text, "Sync now")
	assert.Contains(t, act(learner, section.ID, "hold"), "It was not done")
	assert.False(t, held())
	req, err := http.NewRequest(http.MethodPost, p.at, strings.NewReader("act=hold&section="+section.ID))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	other, err := p.Do(req)
	require.NoError(t, err)
	other.Body.Close()
	assert.Equal(t, 403, other.StatusCode, "another site's page cannot")

	require.NoError(t, x.Standins.School.Withdraw(teacher, p.sectionID("PROP-A")))
	all, err := x.Connections.Interfaces(t.Context())
	require.NoError(t, err)
	for _, i := range all {
		if i.Name == "Register" {
			x.World.Read(i, true)
		}
	}
	assert.Contains(t, act(p, section.ID, "hold"), "It was not done", "she teaches it no more")
	assert.False(t, held())
	_, text = p.goes("GET", p.at, nil)
	assert.Contains(t, text, "The register does not have you in this section")
	paused := true
	x.changes("PATCH", "/interfaces/"+id, api.EditInterface{Paused: &paused})
	_, text = p.goes("GET", p.at, nil)
	assert.Contains(t, text, "open nothing at the moment")
	_, text = p.goes("GET", kanban+"/lti/course/none", nil)
	assert.Contains(t, text, "This page has ended")
	_, err = x.Store.Pool.Exec(t.Context(), `UPDATE launch_sessions SET expires_at = now() - interval '1 minute'`)
	require.NoError(t, err)
	_, text = learner.goes("GET", learner.at, nil)
	assert.Contains(t, text, "This page has ended")
}

// What is joined by hand works the same; who joined twice is not guessed between.
func TestAPlatformJoinsByHand(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	register := x.Register()
	x.World.Read(register, false)
	courses := x.Standins.Platform.Courses
	courses.KeepValues(false)
	at := get[api.ToolAddresses](x, "/tool-addresses")
	assert.Equal(t, "$CourseSection.sourcedId", at.Custom["section"])
	issuer := x.Standins.Addresses.Platform + "/lti"
	values := map[string]string{
		"issuer": issuer, "clientId": courses.AddTool(at.Login, at.Launch, at.Custom),
		"authorizeAddress": issuer + "/authorize",
		"tokenAddress":     issuer + "/token", "keysAddress": issuer + "/keys",
	}
	id := x.Connect("lti", "Courses", values).ID
	p := x.pupil()
	status, text := p.opens("PROP-A", "stu-001")
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "nobody has admitted yet")
	d := get[api.Page[api.Deployment]](x, "/interfaces/"+id+"/deployments").Items[0]
	x.do(204, "PUT", "/deployments/"+d.ID, api.Admission{Admitted: true})
	status, _ = p.opens("PROP-A", "stu-001")
	assert.Equal(t, 200, status)

	values["clientId"] = "another"
	x.Connect("lti", "Courses again", values)
	status, _ = p.opens("PROP-A", "stu-001")
	assert.Equal(t, 200, status, "the platform says as which it asks")
	_, text = p.goes("GET", kanban+"/lti/login?login_hint=x&target_link_uri=y&iss="+url.QueryEscape(issuer), nil)
	assert.Contains(t, text, "has joined Kanban more than once")
	paused := true
	x.changes("PATCH", "/interfaces/"+id, api.EditInterface{Paused: &paused})
	_, text = p.goes("GET", kanban+"/lti/login?login_hint=x&target_link_uri=y&client_id="+
		get[api.Interface](x, "/interfaces/"+id).Settings["clientId"]+"&iss="+url.QueryEscape(issuer), nil)
	assert.Contains(t, text, "it was paused")
	x.do(422, "GET", "/interfaces/"+register.ID+"/deployments", nil)
}

// The keys that platforms read change without a break.
func TestKeysForPlatformsChange(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	ids := func() (all []string) {
		_, text := x.ask("GET", "/lti/keys", "")
		for _, m := range regexp.MustCompile(`"kid":"([^"]+)"`).FindAllStringSubmatch(text, -1) {
			all = append(all, m[1])
		}
		assert.NotContains(t, text, `"d":`, "nothing private")
		return all
	}
	var tabs sync.WaitGroup
	for range 4 {
		tabs.Go(func() { _, _ = x.ask("GET", "/lti/keys", "") })
	}
	tabs.Wait()
	first := ids()
	require.Len(t, first, 1, "several at once make one")
	x.do(204, "POST", "/tool-keys", nil)
	second := ids()
	require.Len(t, second, 2)
	assert.Contains(t, second, first[0])
	_, err := x.Store.Pool.Exec(t.Context(), `UPDATE tool_keys SET retired_at = $1 WHERE retired_at IS NOT NULL`,
		time.Now().Add(-25*time.Hour))
	require.NoError(t, err)
	assert.NotContains(t, ids(), first[0])
}
