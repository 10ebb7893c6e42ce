package scenario

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
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

	registerClient = "kanban"
	registerSecret = "green-fingers"
	workspaceToken = "potting-shed"
	// NoticeAttribute says in the workspace whether a newcomer gets a welcome message.
	NoticeAttribute = "urn:fernmoor:params:scim:schemas:extension:welcome:2.0:User:sendWelcome"
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

// Story is the demo at work.
type Story struct {
	At     Addresses
	Client *client.Client // signed in once Play has set up or Resume was called
	out    io.Writer
	http   *http.Client

	Interfaces map[string]api.Interface // by name
	Pairing    api.Pairing
	Award      api.Award
	Offer      api.Offer
	StagePlan  api.StagePlan
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
		s.Connect, s.ReadRegister, s.Pair, s.FirstRun, s.SecondRun, s.Mend, s.MakeRules, s.Join, s.Learn,
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

// Connect connects every outside system and tests it; a wrong secret says so.
func (s *Story) Connect(ctx context.Context) error {
	s.heading("Connecting the outside systems")
	var names []string
	for _, n := range s.systems() {
		made, err := s.connect(ctx, n)
		if err != nil {
			return err
		}
		names = append(names, made...)
	}
	wrong, err := s.probe(ctx, RegisterName, "wrong-credential")
	if err != nil {
		return fmt.Errorf("a wrong secret must be told apart: %w", err)
	}
	s.tell("%-25s with a wrong secret: %s (%s)", RegisterName, wrong.State, wrong.Remedy)
	if _, err := client.Send[api.Interface](ctx, s.Client, http.MethodPatch,
		"/interfaces/"+s.Interfaces[RegisterName].ID,
		api.EditInterface{Values: map[string]string{"clientSecret": registerSecret}}); err != nil {
		return err
	}
	made := s.Interfaces[PlatformName].Made
	if err := s.post(ctx, s.At.Platform+"/reporting", map[string]string{
		"endpoint": s.Client.Address() + "/xapi",
		"key":      made["key"], "secret": made["secret"],
	}); err != nil {
		return fmt.Errorf("telling the platform where to report: %w", err)
	}
	for _, name := range names {
		want := "works"
		if s.Interfaces[name].Kind == "xapi" {
			want = "unproven" // until the first statement comes
		}
		r, err := s.probe(ctx, name, want)
		if err != nil {
			return err
		}
		s.tell("%-25s %-18s %s: %s", name, r.Capability, r.State, r.Detail)
	}
	return nil
}

// systems are the outside systems with which the demo begins; the register's secret is wrong.
func (s *Story) systems() []api.NewConnection {
	return []api.NewConnection{
		{Name: RegisterName, Owner: "School office", Interfaces: []api.NewInterface{
			{Kind: "oneroster", Values: map[string]string{
				"address":      s.At.Register,
				"tokenAddress": s.At.Register + "/oauth/token", "clientId": registerClient,
				"clientSecret": "red-fingers", "personPage": s.At.Register + "/#{id}",
			}},
		}},
		{
			Name: platformSystem, Owner: "Learning team", Address: s.At.Platform,
			Interfaces: []api.NewInterface{{Kind: "xapi", Label: "activity"}},
		},
		{Name: WorkspaceName, Owner: "IT desk", Address: s.At.Workspace, Interfaces: []api.NewInterface{
			{Kind: "scim", Values: map[string]string{
				"address": "/scim/v2",
				"token":   workspaceToken, "notice": NoticeAttribute,
				"classPage": s.At.Workspace + "/#{id}", "personPage": s.At.Workspace + "/#{id}",
			}},
		}},
		{Name: contactsSystem, Owner: "Newsletter desk", Address: s.At.Contacts, Interfaces: []api.NewInterface{
			{Kind: "webhook", Label: "events", Values: map[string]string{
				"address": "/events",
				"secret":  contactsSecret,
			}},
		}},
		{Name: MailName, Owner: "IT desk", Interfaces: []api.NewInterface{
			{Kind: "smtp", Values: map[string]string{
				"server": s.At.SMTP,
				"from":   "kanban@fernmoor.example", "fromName": "Fernmoor Garden School", "security": "none",
			}},
		}},
	}
}

// connect makes a connection and gives the names of its interfaces.
func (s *Story) connect(ctx context.Context, n api.NewConnection) (names []string, err error) {
	c, err := client.Post[api.Connection](ctx, s.Client, "/connections", n)
	for _, x := range c.Interfaces {
		s.Interfaces[x.Name] = x
		names = append(names, x.Name)
	}
	return names, err
}

// connectionOf gives the id of the connection to which an interface belongs.
func (s *Story) connectionOf(name string) string { return s.Interfaces[name].ConnectionID }

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
	return nil
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

// MakeRules makes a badge, loads the outline, and makes two rules and switches them on.
func (s *Story) MakeRules(ctx context.Context) error {
	s.heading("Making a badge and two rules, and switching them on")
	issuer, err := client.Post[api.Issuer](ctx, s.Client, "/issuers",
		api.NewIssuer{
			Name: "Fernmoor Garden School", URL: "https://fernmoor.example",
			Email: "office@fernmoor.example",
		})
	if err != nil {
		return err
	}
	badge, err := client.Post[api.Badge](ctx, s.Client, "/badges",
		api.NewBadge{
			IssuerID: issuer.ID, Name: "Cuttings", Description: "Takes softwood cuttings that root.",
			Criteria: "Finish every activity of the module Cuttings and pass its check.",
		})
	if err != nil {
		return err
	}
	x, err := s.section(ctx)
	if err != nil {
		return err
	}
	if err := s.Outline(ctx, x.CourseID); err != nil {
		return err
	}
	for _, r := range []api.NewRule{
		{
			Name: "Greet new learners", Trigger: "section.joined", Condition: `event.role == "student"`,
			Actions: []api.Action{{
				Kind: "send-event", InterfaceID: s.Interfaces[ContactsName].ID,
				Fields: map[string]string{
					"email": "person.email", "name": "person.name",
					"label": `"learns " + course.title`,
				},
			}},
		},
		{Name: "Cuttings badge", Trigger: "module.completed", Scope: ruleScope(module), Actions: []api.Action{
			{Kind: "award", BadgeID: badge.ID},
			{
				Kind: "mail", InterfaceID: s.Interfaces[MailName].ID,
				Subject: "Well done, {{.person.givenName}}: your badge for {{.module.title}}",
				Text:    "Dear {{.person.givenName}},\n\nyou finished {{.module.title}} in {{.section.title}}. Your badge is here, and anyone can check it:\n{{.award.address}}\n\nFernmoor Garden School\n",
			},
		}},
	} {
		made, err := client.Post[api.Rule](ctx, s.Client, "/rules", r)
		if err != nil {
			return err
		}
		if made, err = client.Post[api.Rule](ctx, s.Client, "/rules/"+made.ID+"/switch",
			api.Switch{On: true, Untried: true}); err != nil {
			return err
		}
		s.tell("%-20s when %s: on", made.Name, made.Trigger)
	}
	return nil
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
   command line     bin/kanban sign-in --address %s --email %s
`, s.Client.Address(), Email, Password, s.Award.Address, s.At.Register, s.At.Platform, s.At.Workspace, s.At.Contacts, s.At.Inbox, s.At.Shop, s.Client.Address(), Email)
}
