package scenario

import (
	"context"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

// The administrator of the demo.
const (
	Email    = "maud@fernmoor.example"
	Password = "grow-more-plants"
)

// The outside systems of the demo that have more than one interface.
const (
	platformSystem = "Course platform"
	contactsSystem = "Plant news"
)

// Names of the demo's interfaces, and credentials. The stand-ins have the same.
const (
	RegisterName  = "School register"
	PlatformName  = platformSystem + ": activity"
	WorkspaceName = "Chat workspace"
	ContactsName  = contactsSystem + ": events"
	MailName      = "School mail"

	registerSecret = "green-fingers"
	workspaceToken = "potting-shed"
	// NoticeAttribute says in the workspace whether a newcomer gets a welcome message.
	NoticeAttribute = "urn:fernmoor:params:scim:schemas:extension:welcome:2.0:User:sendWelcome"
	platformKey     = "garden-platform"
	platformSecret  = "tick-tick-tick"
	shopSecret      = "whsec_RmVybm1vb3ItR2FyZGVuLVNob3AtZGVtby1zZWNyZXQ="
	contactsSecret  = "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="

	sectionCode   = "PROP-A"
	sectionID     = "sec-prop-a"
	noAddress     = "stu-005"
	noAddressName = "Elsa Elder"
	testLearner   = "stu-060"
	testName      = "Tamsin Trial"
	testEmail     = "tamsin.trial@fernmoor.example"
	module        = "mod-cuttings"
)

var moduleActivities = []string{"act-tools", "act-softwood", "act-cuttings-check"}

// Interfaces are those of the demo, in the order in which they are tested.
var Interfaces = []string{
	RegisterName, PlatformName, WorkspaceName, ContactsName, MailName, PlacesName, LabelsName, ShopName,
}

// Story is the demo at work.
type Story struct {
	At     Addresses
	Client *client.Client // signed in once Play has set up or Resume was called
	out    io.Writer
	http   *http.Client

	Interfaces map[string]api.Interface // by name
	Pairing    api.Pairing
	Award      api.Award
	badgesPage string       // the link in the mail about it
	holder     *http.Client // the browser of whoever got it
	Offer      api.Offer
	StagePlan  api.StagePlan
	ScoreLink  api.ScoreLink
	Buyer      api.Person
	step       int
}

// New prepares a story.
func New(service string, at Addresses, out io.Writer) *Story {
	return &Story{
		At: at, Client: client.New(service, ""), out: out, http: &http.Client{Timeout: 30 * time.Second},
		Interfaces: map[string]api.Interface{},
	}
}

// Patience is how long the story waits for something that must happen by itself.
const Patience = 30 * time.Second

func (s *Story) heading(format string, args ...any) {
	s.step++
	fmt.Fprintf(s.out, "\n%d. %s\n", s.step, fmt.Sprintf(format, args...))
}

func (s *Story) tell(format string, args ...any) {
	fmt.Fprintf(s.out, "   "+format+"\n", args...)
}

// Play plays every step and returns an error that names the first one that did
// not happen as it must.
func (s *Story) Play(ctx context.Context, setupSecret string) error {
	fmt.Fprintf(s.out, "Fernmoor Garden School, from a register to a badge.\n")
	for _, step := range []func(context.Context) error{
		func(ctx context.Context) error { return s.SetUp(ctx, setupSecret) },
		s.Connect, s.ReadRegister, s.Pair, s.FirstRun, s.SecondRun, s.Mend, s.SwitchOn, s.Join, s.Learn, s.Share,
		s.TakeAlong,
		s.Sell, s.BuyersRules, s.Stages, s.Buy, s.Stop, s.FailThenPass, s.Finish, s.Reached,
	} {
		if err := step(ctx); err != nil {
			return fmt.Errorf("step %d: %w", s.step, err)
		}
	}
	return nil
}

// SetUp makes the administrator and a token.
func (s *Story) SetUp(ctx context.Context, secret string) error {
	s.heading("Setting up")
	who, err := s.Client.SetUp(ctx, api.Setup{Secret: secret, Name: "Maud Marrow", Email: Email, Password: Password})
	if err != nil {
		return err
	}
	token, err := client.Post[api.Token](ctx, s.Client, "/tokens", api.NewToken{Name: "demo"})
	if err != nil {
		return err
	}
	s.Client = client.New(s.Client.Address(), token.Token)
	s.tell("%s is the administrator: %s, password %s", who.Name, Email, Password)
	return nil
}

// Connect takes the school's set-up in, as which everything arrives off or paused, enters what the
// outside systems have given, and tests each; a wrong secret says so.
func (s *Story) Connect(ctx context.Context) error {
	s.heading("Taking the school's set-up in from files, and connecting the outside systems")
	if err := s.takeIn(ctx); err != nil {
		return err
	}
	for _, name := range Interfaces {
		if err := s.enter(ctx, name, s.credentials()[name]); err != nil {
			return err
		}
	}
	wrong, err := s.probe(ctx, RegisterName, "wrong-credential")
	if err != nil {
		return fmt.Errorf("a wrong secret must be told apart: %w", err)
	}
	s.tell("%-25s with a wrong secret: %s (%s)", RegisterName, wrong.State, wrong.Remedy)
	if err := s.enter(ctx, RegisterName, map[string]string{"clientSecret": registerSecret}); err != nil {
		return err
	}
	platform := s.Interfaces[PlatformName]
	platform.Made = map[string]string{
		"endpoint": s.Client.Address() + "/xapi", "key": platformKey, "secret": platformSecret,
	}
	s.Interfaces[PlatformName] = platform
	if err := s.post(ctx, s.At.Platform+"/reporting", platform.Made); err != nil {
		return fmt.Errorf("telling the platform where to report: %w", err)
	}
	if err := s.form(ctx, s.At.Shop+"/reporting", url.Values{
		"address": {s.Client.Address() + "/reported/" + s.Interfaces[ShopName].ID}, "secret": {shopSecret},
	}); err != nil {
		return fmt.Errorf("telling the shop where to report: %w", err)
	}
	for _, name := range Interfaces {
		want := "works"
		if name == PlatformName || name == ShopName {
			want = "unproven" // until the first statement or purchase comes
		}
		r, err := s.probe(ctx, name, want)
		if err != nil {
			return err
		}
		s.tell("%-25s %-18s %s: %s", name, r.Capability, r.State, r.Detail)
	}
	return nil
}

// credentials are what has to be entered for each interface; the register's is wrong.
func (s *Story) credentials() map[string]map[string]string {
	return map[string]map[string]string{
		RegisterName:  {"clientSecret": "red-fingers"},
		WorkspaceName: {"token": workspaceToken},
		ContactsName:  {"secret": contactsSecret},
		PlatformName:  {"key": platformKey, "secret": platformSecret},
		PlacesName:    {"token": placesToken},
		LabelsName:    {"token": labelsToken},
		ShopName:      {"secret": shopSecret},
	}
}

// enter gives an interface its credentials and lets it go on.
func (s *Story) enter(ctx context.Context, name string, values map[string]string) error {
	on := false
	_, err := client.Send[api.Interface](ctx, s.Client, http.MethodPatch, "/interfaces/"+s.Interfaces[name].ID,
		api.EditInterface{Values: values, Paused: &on})
	return err
}

//go:embed setup/*.yaml
var setUp embed.FS

// Files is the school's set-up, with the addresses of the stand-ins.
func (s *Story) Files() (map[string]string, error) {
	at := map[string]string{
		"REGISTER": s.At.Register, "PLATFORM": s.At.Platform, "WORKSPACE": s.At.Workspace, "CONTACTS": s.At.Contacts,
		"SHOP": s.At.Shop, "MAIL": s.At.SMTP,
	}
	files := map[string]string{}
	names, err := fs.Glob(setUp, "setup/*.yaml")
	for _, name := range names {
		text, err := setUp.ReadFile(name)
		if err != nil {
			return nil, err
		}
		files[path.Base(name)] = os.Expand(string(text), func(key string) string { return at[key] })
	}
	return files, err
}

// takeIn takes the school's set-up in.
func (s *Story) takeIn(ctx context.Context) error {
	files, err := s.Files()
	if err != nil {
		return err
	}
	c, err := client.Post[api.ConfigComparison](ctx, s.Client, "/config/apply",
		api.ConfigApply{ConfigFiles: api.ConfigFiles{Files: files}})
	if err != nil {
		return err
	}
	if len(c.Faults) > 0 {
		return fmt.Errorf("the set-up cannot be used: %w", c.Faults[0])
	}
	waits := 0
	for _, x := range c.Changes {
		if x.What == "wait" {
			waits++
		}
	}
	s.tell("%d things came in, off or paused; %d wait for the register", len(c.Changes)-waits, waits)
	all, err := client.All[api.Interface](ctx, s.Client, "/interfaces")
	for _, x := range all {
		s.Interfaces[x.Name] = x
	}
	return err
}

func (s *Story) probe(ctx context.Context, name, want string) (api.Report, error) {
	reports, err := client.Post[[]api.Report](ctx, s.Client, "/interfaces/"+s.Interfaces[name].ID+"/probe", nil)
	if err != nil {
		return api.Report{}, err
	}
	for _, r := range reports {
		if r.State != want {
			return r, fmt.Errorf("%s: %s is %q, expected %q: %s", name, r.Capability, r.State, want, r.Detail)
		}
	}
	return reports[len(reports)-1], nil
}

// Read reads the register once and waits for the end.
func (s *Story) Read(ctx context.Context) (api.Run, error) {
	r, err := client.Post[api.Run](ctx, s.Client, "/interfaces/"+s.Interfaces[RegisterName].ID+"/read",
		api.ReadRequest{})
	if err != nil {
		return r, err
	}
	r, err = s.Client.Wait(ctx, r.ID, func(api.Run) {})
	if err == nil && r.State != "finished" {
		err = fmt.Errorf("reading the register ended as %s: %s", r.State, r.Error)
	}
	return r, err
}

// ReadRegister fills the mirror and lists the sections.
func (s *Story) ReadRegister(ctx context.Context) error {
	s.heading("Reading the register")
	r, err := s.Read(ctx)
	if err != nil {
		return err
	}
	s.tell("%d people, %d courses, %d sections, %d enrolments", r.Counts["people"], r.Counts["courses"],
		r.Counts["sections"], r.Counts["enrolments"])
	list, err := client.All[api.Section](ctx, s.Client, "/sections?hidden=*")
	if err != nil {
		return err
	}
	for _, x := range list {
		s.tell("%-22s %-20s %-12s %2d learners  %-26s %s", x.Title, x.Course, strings.Join(x.Terms, ", "), x.Learners,
			strings.Join(x.Teachers, ", "), x.State)
	}
	if len(list) != 9 {
		return fmt.Errorf("%d sections were read, the school has 9", len(list))
	}
	return s.until(ctx, "what waited for the register", func() (bool, error) {
		waiting, err := client.Get[[]api.ConfigWaiting](ctx, s.Client, "/config/waiting")
		if err == nil && len(waiting) == 0 {
			s.tell("what waited for the register has come in: an outline, an offer, a stage plan")
		}
		return len(waiting) == 0, err
	})
}

func (s *Story) section(ctx context.Context) (api.Section, error) {
	list, err := client.All[api.Section](ctx, s.Client, "/sections?hidden=*")
	if err != nil {
		return api.Section{}, err
	}
	i := slices.IndexFunc(list, func(x api.Section) bool { return x.Code == sectionCode })
	if i < 0 {
		return api.Section{}, fmt.Errorf("section %s was not read", sectionCode)
	}
	return list[i], nil
}

// Pair pairs one section with a new space and shows the preview.
func (s *Story) Pair(ctx context.Context) error {
	s.heading("Pairing Propagation A with a new space in the chat workspace")
	x, err := s.section(ctx)
	if err != nil {
		return err
	}
	s.Pairing, err = client.Post[api.Pairing](ctx, s.Client, "/pairings",
		api.NewPairing{
			SectionID: x.ID, InterfaceID: s.Interfaces[WorkspaceName].ID,
			Target: "Propagation, group A",
		})
	if err != nil {
		return err
	}
	p, err := s.Preview(ctx)
	if err != nil {
		return err
	}
	for _, e := range p.Entries {
		s.tell("%-13s %-16s %s", strings.ReplaceAll(string(e.Outcome), "-", " "), e.Name, named(e.Title, e.Detail))
	}
	return expect(p.Counts, map[roster.Outcome]int{
		roster.OutcomeAdd: 10, roster.OutcomeNeedsPerson: 3,
		roster.OutcomeWaiting: 1, roster.OutcomeLeftOut: 2,
	})
}

func named(what, detail string) string {
	if detail == "" {
		return what
	}
	return what + " (" + detail + ")"
}

func expect(got, want map[roster.Outcome]int) error {
	for _, o := range roster.Outcomes {
		if got[o] != want[o] {
			return fmt.Errorf("%d people are %q, expected %d", got[o], o, want[o])
		}
	}
	return nil
}

// Preview compares now.
func (s *Story) Preview(ctx context.Context) (api.Preview, error) {
	return client.Post[api.Preview](ctx, s.Client, "/pairings/"+s.Pairing.ID+"/previews", nil)
}

// Start previews and queues a run.
func (s *Story) Start(ctx context.Context) (api.Run, error) {
	p, err := s.Preview(ctx)
	if err != nil {
		return api.Run{}, err
	}
	return client.Post[api.Run](ctx, s.Client, "/runs", api.NewRun{PreviewID: p.ID})
}

// Sync previews, runs and waits for the end.
func (s *Story) Sync(ctx context.Context) (api.Run, error) {
	r, err := s.Start(ctx)
	if err != nil {
		return r, err
	}
	return s.Client.Wait(ctx, r.ID, func(api.Run) {})
}

func (s *Story) counted(r api.Run, want map[string]int) error {
	s.tell("%d added, %d updated, %d removed, %d refused, %d sent but not there; %d in step already, %d waiting, %d need a person, %d left out",
		r.Counts["added"], r.Counts["updated"], r.Counts["removed"], r.Counts["refused"], r.Counts["not-arrived"],
		r.Counts["in-step"], r.Counts["waiting"], r.Counts["needs-person"], r.Counts["left-out"])
	for name, n := range want {
		if r.Counts[name] != n {
			return fmt.Errorf("the run counts %d %s, expected %d (%s %s)", r.Counts[name], name, n, r.State, r.Error)
		}
	}
	return nil
}

// FirstRun does what the preview showed and reads it back.
func (s *Story) FirstRun(ctx context.Context) error {
	s.heading("Running exactly that, then reading the space back")
	r, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	if err := s.counted(r, map[string]int{
		"added": 9, "refused": 1, "not-arrived": 0, "needs-person": 3,
		"in-step": 0,
	}); err != nil {
		return err
	}
	tasks, err := client.Get[[]api.Finding](ctx, s.Client, "/today")
	if err != nil {
		return err
	}
	for _, t := range tasks {
		s.tell("needs a person: %-12s %s", t.Subject, named(t.Title, strings.TrimSuffix(t.Detail, ".")))
		s.tell("%29s%s", "", t.Remedy)
	}
	return nil
}

// SecondRun shows that running twice changes nothing.
func (s *Story) SecondRun(ctx context.Context) error {
	s.heading("Running again changes nothing")
	r, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	return s.counted(r, map[string]int{"added": 0, "updated": 0, "removed": 0})
}

// Mend gives one person an address; only that person is added.
func (s *Story) Mend(ctx context.Context) error {
	s.heading("The office enters the missing address of %s; only that person is added", noAddressName)
	if err := s.form(ctx, s.At.Register+"/office/people/"+noAddress,
		url.Values{"email": {"elsa.elder@fernmoor.example"}}); err != nil {
		return err
	}
	read, err := s.Read(ctx)
	if err != nil {
		return err
	}
	s.tell("read: %d changed, %d pairings compared", read.Counts["changed"], read.Counts["pairings-compared"])
	if err := s.until(ctx, "the comparison after the read", func() (bool, error) {
		tasks, err := client.Get[[]api.Finding](ctx, s.Client, "/today")
		return len(tasks) == 3, err // she needs nobody any more, before any run
	}); err != nil {
		return err
	}
	r, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	return s.counted(r, map[string]int{"added": 1, "in-step": 9, "needs-person": 2})
}

// SwitchOn switches the first two rules on.
func (s *Story) SwitchOn(ctx context.Context) error {
	s.heading("Switching two rules on")
	for _, name := range []string{"Greet new learners", "Cuttings badge"} {
		r, err := s.rule(ctx, name)
		if err != nil {
			return err
		}
		if _, err = client.Post[api.Rule](ctx, s.Client, "/rules/"+r.ID+"/switch",
			api.Switch{On: true, Untried: true}); err != nil {
			return err
		}
		s.tell("%-20s when %s: on", r.Name, r.Trigger)
	}
	return nil
}

// rule finds one by its name.
func (s *Story) rule(ctx context.Context, name string) (api.Rule, error) {
	all, err := client.All[api.Rule](ctx, s.Client, "/rules")
	i := slices.IndexFunc(all, func(r api.Rule) bool { return r.Name == name })
	if err == nil && i < 0 {
		err = fmt.Errorf("there is no rule %q", name)
	}
	if err != nil {
		return api.Rule{}, err
	}
	return all[i], nil
}

// Outline loads the outline of Propagation from the platform.
func (s *Story) Outline(ctx context.Context, courseID string) error {
	resp, err := s.http.Get(s.At.Platform + "/courses/propagation/imsmanifest.xml")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	o, err := s.Client.LoadCartridge(ctx, courseID, s.At.Platform+"/activities/", resp.Body)
	if err == nil {
		s.tell("outline of Propagation: %d modules", len(o.Modules))
	}
	return err
}

// Join enrols the test learner; the contact list gets a label by itself.
func (s *Story) Join(ctx context.Context) error {
	s.heading("%s, the test learner, joins Propagation A", testName)
	if err := s.form(ctx, s.At.Register+"/office/enrolments",
		url.Values{"person": {testLearner}, "section": {sectionID}}); err != nil {
		return err
	}
	read, err := s.Read(ctx)
	if err != nil {
		return err
	}
	if read.Counts["joined"] != 1 {
		return fmt.Errorf("%d people joined, expected 1", read.Counts["joined"])
	}
	s.tell("read: %d joined", read.Counts["joined"])
	if err := s.until(ctx, "the label in the contact list", func() (bool, error) {
		var list []struct {
			Email  string
			Labels []string
		}
		err := s.get(ctx, s.At.Contacts+"/contacts", &list)
		for _, c := range list {
			if c.Email == testEmail && slices.Contains(c.Labels, "learns Propagation") {
				s.tell("contact list: %s has the label %q", c.Email, c.Labels[0])
				return len(list) == 1, err
			}
		}
		return false, err
	}); err != nil {
		return err
	}
	r, err := s.Sync(ctx)
	if err != nil {
		return err
	}
	return s.counted(r, map[string]int{"added": 1, "in-step": 10})
}

// Learn ticks the module's activities off; badge, public page and mail follow.
func (s *Story) Learn(ctx context.Context) error {
	s.heading("%s ticks off the module Cuttings on the course platform", testName)
	for _, a := range moduleActivities {
		if err := s.form(ctx, s.At.Platform+"/ticks", url.Values{
			"learner":  {testLearner},
			"activity": {a},
		}); err != nil {
			return err
		}
	}
	if err := s.until(ctx, "the badge", func() (bool, error) {
		all, err := client.All[api.Award](ctx, s.Client, "/awards")
		i := slices.IndexFunc(all, func(a api.Award) bool { return a.Person == testName })
		if i >= 0 {
			s.Award = all[i]
		}
		return i >= 0, err
	}); err != nil {
		return err
	}
	s.tell("awarded: %s to %s", s.Award.Badge, s.Award.Person)
	page, err := s.text(ctx, s.Award.Address+"?address="+url.QueryEscape(testEmail), "text/html")
	if err != nil {
		return err
	}
	if !strings.Contains(page, "Verified just now") || !strings.Contains(page, "It was awarded to "+testEmail) {
		return fmt.Errorf("the public page %s does not verify the badge", s.Award.Address)
	}
	s.tell("public page verifies it: %s", s.Award.Address)
	return s.until(ctx, "the mail", func() (bool, error) {
		var mails []struct{ To, Subject, Text string }
		err := s.get(ctx, s.At.Inbox+"/mails", &mails)
		n := 0
		for _, m := range mails {
			if m.To == testEmail && strings.Contains(m.Text, s.Award.Address) {
				if n++; n == 1 {
					s.tell("inbox: %q to %s", m.Subject, m.To)
				}
				_, s.badgesPage, _ = strings.Cut(m.Text, "of them:\n")
				s.badgesPage, _, _ = strings.Cut(s.badgesPage, "\n")
			}
		}
		return n == 1, err
	})
}

// Invite prints the addresses to look at.
func (s *Story) Invite() {
	fmt.Fprintf(s.out, `
Everything keeps running until Ctrl-C. Look around:
   console          %s      (%s, password %s)
   badge            %s
   register office  %s
   course platform  %s
   chat workspace   %s
   contact list     %s
   inbox            %s
   garden shop      %s
   wallet           %s
   school sign-in   %s
   command line     bin/kanban sign-in --address %s --email %s
`, s.Client.Address(), Email, Password, s.Award.Address, s.At.Register, s.At.Platform, s.At.Workspace, s.At.Contacts, s.At.Inbox, s.At.Shop, s.At.Wallet, s.At.Identity, s.Client.Address(), Email)
}
