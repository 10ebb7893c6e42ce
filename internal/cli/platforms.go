package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func platforms() *cli.Command {
	return &cli.Command{
		Name: "platforms", Usage: "Let course platforms open pages here, and say what their courses are about", Category: "rosters",
		Commands: slices.Concat(joiningPlatforms(), inCourses()),
	}
}

// joiningPlatforms are the commands by which platforms join.
func joiningPlatforms() []*cli.Command {
	return []*cli.Command{
		{
			Name: "add-registration", Usage: "Make an address that a platform's administrator pastes there: it joins by it, once",
			ArgsUsage: "NAME", Description: "  kanban platforms add-registration \"Course platform\"", Action: addRegistration,
		},
		{
			Name: "registrations", Usage: "List these addresses of the last month, with what came of them",
			Description: "  kanban platforms registrations", Action: listRegistrations,
		},
		{
			Name: "remove-registration", Usage: "Remove one that was not used", ArgsUsage: "ID", Action: removeRegistration,
			Description: "  kanban platforms remove-registration 01a23418-a6ae-79fb-9b66-457ebb8c69c2",
		},
		{
			Name: "addresses", Usage: "What is entered at a platform that is joined by hand", Action: toolAddresses,
			Description: "  kanban platforms addresses\n  kanban interfaces add \"Course platform\" lti --set issuer=https://platform.example --set clientId=tool-1 …",
		},
		{
			Name: "deployments", Usage: "By what a platform opens links, those that wait to be admitted first", ArgsUsage: "INTERFACE",
			Action: listDeployments, Description: "  kanban platforms deployments \"Course platform\"",
		},
		{
			Name: "admit", Usage: "Let a deployment open pages from now on", ArgsUsage: "INTERFACE DEPLOYMENT",
			Flags:       []cli.Flag{&cli.BoolFlag{Name: "no-more", Usage: "shut it out instead"}},
			Description: "  kanban platforms admit \"Course platform\" fernmoor-1", Action: admitDeployment,
		},
		{
			Name: "new-key", Usage: "Sign with a new key at platforms from now on; the former one stays published for a day",
			Description: "  kanban platforms new-key", Action: func(ctx context.Context, cmd *cli.Command) error {
				if _, err := client.Send[client.Empty](ctx, connect(cmd), http.MethodPost, "/tool-keys",
					nil); err != nil {
					return err
				}
				say(cmd, "There is a new key.")
				return nil
			},
		},
	}
}

// inCourses are the commands about courses in which links were opened, and who opened them.
func inCourses() []*cli.Command {
	return []*cli.Command{
		{
			Name: "courses", Usage: "List the courses in which links were opened, with their sections", ArgsUsage: "INTERFACE",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "undecided", Usage: "only those of which nobody knows which section they are"},
				&cli.IntFlag{Name: "limit", Value: 100, Usage: "so many at most"},
			},
			Description: "  kanban platforms courses \"Course platform\"", Action: listCoursePages,
		},
		{
			Name: "candidates", Usage: "Sections that a course there could be about, with what speaks for each",
			ArgsUsage: "INTERFACE COURSE", Action: listCoursePageCandidates,
			Description: "  kanban platforms candidates \"Course platform\" PROP-2026",
		},
		{
			Name: "set-sections", Usage: "Say which sections a course there is about; none lets the platform's own ids say it again",
			ArgsUsage: "INTERFACE COURSE [SECTION…]", Action: setCoursePage,
			Description: "  kanban platforms set-sections \"Course platform\" PROP-2026 PROP-A PROP-B",
		},
		{
			Name: "opened", Usage: "How often the people of a course opened its page, those who never did first",
			ArgsUsage: "INTERFACE COURSE", Description: "  kanban platforms opened \"Course platform\" PROP-A", Action: listOpenings,
		},
		{
			Name: "unrecognised", Usage: "Who opened links and is nobody of the register", ArgsUsage: "INTERFACE",
			Description: "  kanban platforms unrecognised \"Course platform\"", Action: listUnrecognised,
		},
		{
			Name: "say-who", Usage: "Say who of the register somebody is who opened a link", ArgsUsage: "INTERFACE ACCOUNT PERSON",
			Description: "  kanban platforms say-who \"Course platform\" account-stu-002 stu-002", Action: sayWho,
		},
	}
}

func addRegistration(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	r, err := client.Post[api.RegistrationAddress](ctx, connect(cmd), "/registration-addresses",
		api.NewRegistrationAddress{Name: args[0]})
	if err != nil {
		return err
	}
	if err := tableOf([]api.RegistrationAddress{r}, "", []string{"address", "until"},
		func(r api.RegistrationAddress) []string {
			return []string{r.Address, moment(&r.ExpiresAt)}
		}).print(cmd); err != nil {
		return err
	}
	say(cmd, "Shown once. The platform's administrator pastes it where tools register themselves.")
	return nil
}

func listRegistrations(ctx context.Context, cmd *cli.Command) error {
	page, err := client.Get[api.Page[api.RegistrationAddress]](ctx, connect(cmd), "/registration-addresses")
	if err != nil {
		return err
	}
	return tableOf(page.Items, "None was made in the last month.", []string{"id", "name", "made by", "until", "used"},
		func(r api.RegistrationAddress) []string {
			return []string{r.ID, r.Name, r.MadeBy, moment(&r.ExpiresAt), moment(r.UsedAt)}
		}).print(cmd)
}

func removeRegistration(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	_, err = client.Send[client.Empty](ctx, connect(cmd), http.MethodDelete, "/registration-addresses/"+url.PathEscape(args[0]), nil)
	return err
}

func toolAddresses(ctx context.Context, cmd *cli.Command) error {
	at, err := client.Get[api.ToolAddresses](ctx, connect(cmd), "/tool-addresses")
	if err != nil {
		return err
	}
	rows := [][]string{
		{"login (initiate login URL)", at.Login}, {"link and redirect URL", at.Launch}, {"keys (public keyset URL)", at.Keys},
	}
	var names []string
	for name := range at.Custom {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		rows = append(rows, []string{"custom parameter", name + "=" + at.Custom[name]})
	}
	return tableOf(rows, "", []string{"what", "value"}, func(r []string) []string { return r }).print(cmd)
}

// onPlatform finds the platform that the first argument names.
func onPlatform(ctx context.Context, cmd *cli.Command, n int) (c *client.Client, id string, args []string, err error) {
	if args, err = arguments(cmd, n); err != nil {
		return nil, "", nil, err
	}
	c = connect(cmd)
	i, err := findInterface(ctx, c, args[0])
	return c, i.ID, args[1:], err
}

func deploymentsOf(ctx context.Context, c *client.Client, id string) ([]api.Deployment, error) {
	page, err := client.Get[api.Page[api.Deployment]](ctx, c, "/interfaces/"+id+"/deployments")
	return page.Items, err
}

func listDeployments(ctx context.Context, cmd *cli.Command) error {
	c, id, _, err := onPlatform(ctx, cmd, 1)
	if err != nil {
		return err
	}
	all, err := deploymentsOf(ctx, c, id)
	if err != nil {
		return err
	}
	return tableOf(all, "No link was opened yet.", []string{"deployment", "state", "courses", "latest"},
		func(d api.Deployment) []string {
			state := "waits to be admitted"
			if d.Admitted {
				state = "admitted by " + d.AdmittedBy
			}
			return []string{d.Deployment, state, fmt.Sprint(d.Courses), moment(&d.LatestAt)}
		}).print(cmd)
}

func admitDeployment(ctx context.Context, cmd *cli.Command) error {
	c, id, args, err := onPlatform(ctx, cmd, 2)
	if err != nil {
		return err
	}
	all, err := deploymentsOf(ctx, c, id)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(d api.Deployment) bool { return d.Deployment == args[0] })
	if i < 0 {
		return fmt.Errorf("no link was opened by the deployment %q; see: kanban platforms deployments", args[0])
	}
	_, err = client.Send[client.Empty](ctx, c, http.MethodPut, "/deployments/"+all[i].ID,
		api.Admission{Admitted: !cmd.Bool("no-more")})
	if err == nil && cmd.Bool("no-more") {
		say(cmd, "%s opens nothing any more.", args[0])
	} else if err == nil {
		say(cmd, "%s opens pages from now on.", args[0])
	}
	return err
}

func listCoursePages(ctx context.Context, cmd *cli.Command) error {
	c, id, _, err := onPlatform(ctx, cmd, 1)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.CoursePage]](ctx, c, fmt.Sprintf("/interfaces/%s/course-pages?undecided=%t&limit=%d", id,
		cmd.Bool("undecided"), cmd.Int("limit")))
	if err != nil {
		return err
	}
	if err := tableOf(page.Items, "None.", []string{"course", "title", "sections", "said by", "people", "latest"},
		func(x api.CoursePage) []string {
			var sections []string
			for _, s := range x.Sections {
				sections = append(sections, s.Code)
			}
			return []string{
				x.Label, x.Title, strings.Join(sections, ", "), x.DecidedBy, fmt.Sprint(x.People), moment(&x.LatestAt),
			}
		}).print(cmd); err != nil {
		return err
	}
	if page.Next != "" {
		say(cmd, "These are %d of %d; raise --limit.", len(page.Items), page.Total)
	}
	return nil
}

// findCoursePage finds the one course page with a label, a title or an id.
func findCoursePage(ctx context.Context, c *client.Client, id, name string) (found api.CoursePage, err error) {
	all, err := client.All[api.CoursePage](ctx, c, "/interfaces/"+id+"/course-pages?limit=1000")
	if err != nil {
		return found, err
	}
	var fit []api.CoursePage
	for _, x := range all {
		if x.ID == name || strings.EqualFold(x.Label, name) || strings.EqualFold(x.Title, name) {
			fit = append(fit, x)
		}
	}
	switch len(fit) {
	case 0:
		return found, fmt.Errorf("no link was opened in a course %q; see: kanban platforms courses", name)
	case 1:
		return fit[0], nil
	}
	ids := make([]string, len(fit))
	for i, x := range fit {
		ids[i] = x.ID
	}
	return found, fmt.Errorf("%d courses are called %q; name one by its id: %s", len(fit), name, strings.Join(ids, ", "))
}

// onCoursePage finds the course page that two arguments name.
func onCoursePage(ctx context.Context, cmd *cli.Command) (*client.Client, api.CoursePage, error) {
	c, id, args, err := onPlatform(ctx, cmd, 2)
	if err != nil {
		return nil, api.CoursePage{}, err
	}
	page, err := findCoursePage(ctx, c, id, args[0])
	return c, page, err
}

func listCoursePageCandidates(ctx context.Context, cmd *cli.Command) error {
	c, course, err := onCoursePage(ctx, cmd)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.CoursePageCandidate]](ctx, c, "/course-pages/"+course.ID+"/candidates")
	if err != nil {
		return err
	}
	return tableOf(page.Items, "Nothing speaks for any section.", []string{"section", "code", "terms", "opened it", "called alike"},
		func(x api.CoursePageCandidate) []string {
			return []string{
				x.Section.Title, x.Section.Code, strings.Join(x.Section.Terms, ", "), fmt.Sprintf("%d of %d",
					x.Shared, x.Opened),
				fmt.Sprintf("%d of 100", x.Similar),
			}
		}).print(cmd)
}

func setCoursePage(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() < 2 {
		return fmt.Errorf("name the interface, the course there and its sections; see: kanban platforms set-sections --help")
	}
	c := connect(cmd)
	i, err := findInterface(ctx, c, cmd.Args().Get(0))
	if err != nil {
		return err
	}
	page, err := findCoursePage(ctx, c, i.ID, cmd.Args().Get(1))
	if err != nil {
		return err
	}
	sections := []string{}
	for _, name := range cmd.Args().Slice()[2:] {
		s, err := findPart(ctx, c, name)
		if err != nil {
			return err
		}
		sections = append(sections, s.ID)
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/course-pages/"+page.ID+"/sections",
		api.CoursePageSections{Sections: sections}); err != nil {
		return err
	}
	say(cmd, "%s shows %d sections.", page.Title, len(sections))
	return nil
}

func listOpenings(ctx context.Context, cmd *cli.Command) error {
	c, course, err := onCoursePage(ctx, cmd)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.PageOpening]](ctx, c, "/course-pages/"+course.ID+"/openings")
	if err != nil {
		return err
	}
	return tableOf(page.Items, "Nobody is in its sections, or it is not known which they are.",
		[]string{"name", "role", "times", "first", "latest"}, func(o api.PageOpening) []string {
			return []string{o.Name, o.Role, fmt.Sprint(o.Times), moment(o.FirstAt), moment(o.LatestAt)}
		}).print(cmd)
}

func listUnrecognised(ctx context.Context, cmd *cli.Command) error {
	c, id, _, err := onPlatform(ctx, cmd, 1)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.Unrecognised]](ctx, c, "/interfaces/"+id+"/unrecognised?limit=1000")
	if err != nil {
		return err
	}
	if err := tableOf(page.Items, "Everybody who opened a link was recognised.",
		[]string{"account", "name", "address", "identifier", "why", "latest"}, func(u api.Unrecognised) []string {
			return []string{u.Subject, u.Name, u.Email, u.Identifier, u.Why, moment(&u.LatestAt)}
		}).print(cmd); err != nil {
		return err
	}
	if len(page.Items) < page.Total {
		say(cmd, "These are %d of %d.", len(page.Items), page.Total)
	}
	return nil
}

func sayWho(ctx context.Context, cmd *cli.Command) error {
	c, id, args, err := onPlatform(ctx, cmd, 3)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.Unrecognised]](ctx, c, "/interfaces/"+id+"/unrecognised?limit=1000")
	if err != nil {
		return err
	}
	i := slices.IndexFunc(page.Items, func(u api.Unrecognised) bool { return u.Subject == args[0] })
	if i < 0 {
		return fmt.Errorf("nobody with the account %q waits to be recognised; see: kanban platforms unrecognised", args[0])
	}
	p, err := onePerson(ctx, c, args[1])
	if err != nil {
		return err
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/unrecognised/"+page.Items[i].ID,
		api.WhoItIs{PersonID: p.ID}); err != nil {
		return err
	}
	say(cmd, "The account %s is %s's.", args[0], p.Name)
	return nil
}
