package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/launches"
	"kanban/internal/core/permission"
	"kanban/internal/store/launchstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/lti"
)

var (
	listRegistrationsOp = operation{
		ID: "list-registration-addresses", Act: permission.Connect,
		Method: http.MethodGet, Path: "/registration-addresses", Status: http.StatusOK, Tag: "course platforms",
		Summary: "Addresses of the last month by which course platforms can join, the newest first",
	}
	makeRegistrationOp = operation{
		ID: "make-registration-address", Act: permission.Connect,
		Method: http.MethodPost, Path: "/registration-addresses", Status: http.StatusCreated, Tag: "course platforms",
		Summary: "Make an address that a course platform's administrator pastes there: it joins by it, once",
	}
	removeRegistrationOp = operation{
		ID: "remove-registration-address", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/registration-addresses/{id}", Status: http.StatusNoContent, Tag: "course platforms",
		Summary: "Remove one that was not used",
	}
	toolAddressesOp = operation{
		ID: "get-tool-addresses", Act: permission.Connect,
		Method: http.MethodGet, Path: "/tool-addresses", Status: http.StatusOK, Tag: "course platforms",
		Summary: "What is entered at a course platform that is joined by hand",
	}
	rotateToolKeyOp = operation{
		ID: "rotate-tool-key", Act: permission.Connect,
		Method: http.MethodPost, Path: "/tool-keys", Status: http.StatusNoContent, Tag: "course platforms",
		Summary: "Sign with a new key at course platforms from now on; the former one stays published for a day",
	}
	listDeploymentsOp = operation{
		ID: "list-deployments", Act: permission.Connect,
		Method: http.MethodGet, Path: "/interfaces/{id}/deployments", Status: http.StatusOK, Tag: "course platforms",
		Summary: "By what a course platform opens links, those that wait to be admitted first",
	}
	admitDeploymentOp = operation{
		ID: "admit-deployment", Act: permission.Connect,
		Method: http.MethodPut, Path: "/deployments/{id}", Status: http.StatusNoContent, Tag: "course platforms",
		Summary: "Let a deployment open pages from now on, or no more",
	}
	listCoursePagesOp = operation{
		ID: "list-course-pages", Act: permission.Rosters,
		Method: http.MethodGet, Path: "/interfaces/{id}/course-pages", Status: http.StatusOK, Tag: "course platforms",
		Summary: "The courses of a platform in which links were opened, the oldest first",
	}
	setCoursePageOp = operation{
		ID: "set-course-page-sections", Act: permission.Rosters,
		Method: http.MethodPut, Path: "/course-pages/{id}/sections", Status: http.StatusNoContent, Tag: "course platforms",
		Summary: "Say which sections a course page is about",
	}
	listCoursePageCandidatesOp = operation{
		ID: "list-course-page-candidates", Act: permission.Rosters,
		Method: http.MethodGet, Path: "/course-pages/{id}/candidates", Status: http.StatusOK, Tag: "course platforms",
		Summary: "Sections that a course page could be about, with what speaks for each, the likeliest first",
	}
	listOpeningsOp = operation{
		ID: "list-openings", Act: permission.Rosters,
		Method: http.MethodGet, Path: "/course-pages/{id}/openings", Status: http.StatusOK, Tag: "course platforms",
		Summary: "How often the people of a course page's sections opened it, those who never did first",
	}
	listUnrecognisedOp = operation{
		ID: "list-unrecognised", Act: permission.Recognise,
		Method: http.MethodGet, Path: "/interfaces/{id}/unrecognised", Status: http.StatusOK, Tag: "course platforms",
		Summary: "Who opened links and is nobody of the register, the latest first",
	}
	sayWhoOp = operation{
		ID: "say-who", Act: permission.Recognise,
		Method: http.MethodPut, Path: "/unrecognised/{id}", Status: http.StatusNoContent, Tag: "course platforms",
		Summary: "Say who of the register somebody is who opened a link",
	}
)

// coursePlatforms registers what people see and decide of platforms that open pages here.
func (s *Server) coursePlatforms(a huma.API) {
	handle(a, listRegistrationsOp, s.listRegistrations)
	handle(a, makeRegistrationOp, s.makeRegistration)
	handleEmpty(a, removeRegistrationOp, s.removeRegistration)
	handle(a, toolAddressesOp, s.toolAddresses)
	handleEmpty(a, rotateToolKeyOp, func(ctx context.Context, _ *struct{}) error {
		return s.Launches.RotateKeys(ctx, auth.Caller(ctx).Name)
	})
	handle(a, listDeploymentsOp, s.listDeployments)
	handleEmpty(a, admitDeploymentOp, s.admitDeployment)
	handle(a, listCoursePagesOp, s.listCoursePages)
	handleEmpty(a, setCoursePageOp, s.setCoursePage)
	handle(a, listCoursePageCandidatesOp, s.listCoursePageCandidates)
	handle(a, listOpeningsOp, s.listOpenings)
	handle(a, listUnrecognisedOp, s.listUnrecognised)
	handleEmpty(a, sayWhoOp, s.sayWho)
}

func registrationOf(r launchstore.Registration) api.RegistrationAddress {
	out := api.RegistrationAddress{
		ID: r.ID, Name: r.Name, MadeBy: r.MadeBy, CreatedAt: r.CreatedAt, ExpiresAt: r.ExpiresAt, UsedAt: r.UsedAt,
	}
	if r.InterfaceID != nil {
		out.InterfaceID = *r.InterfaceID
	}
	return out
}

func (s *Server) listRegistrations(ctx context.Context, _ *struct{}) (api.Page[api.RegistrationAddress], error) {
	all, err := s.Launches.Registrations(ctx)
	return api.Page[api.RegistrationAddress]{Items: each(all, registrationOf), Total: len(all)}, err
}

func (s *Server) makeRegistration(ctx context.Context,
	in *with[api.NewRegistrationAddress],
) (api.RegistrationAddress, error) {
	r, address, err := s.Launches.NewRegistration(ctx, auth.Caller(ctx).Name, in.Body.Name)
	out := registrationOf(r)
	out.Address = address
	return out, err
}

func (s *Server) removeRegistration(ctx context.Context, in *byID) error {
	return s.Launches.RemoveRegistration(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) toolAddresses(_ context.Context, _ *struct{}) (api.ToolAddresses, error) {
	t := s.Launches.Tool()
	return api.ToolAddresses{Login: t.Login, Launch: t.Launch, Keys: t.Keys, Custom: lti.Variables}, nil
}

func deploymentOf(d launchstore.ListedDeployment) api.Deployment {
	return api.Deployment{
		ID: d.ID, Deployment: d.Deployment.Deployment, Admitted: d.AdmittedAt != nil, AdmittedBy: d.AdmittedBy,
		AdmittedAt: d.AdmittedAt,
		FirstAt:    d.FirstAt, LatestAt: d.LatestAt, Courses: d.Courses,
	}
}

func (s *Server) listDeployments(ctx context.Context, in *byID) (api.Page[api.Deployment], error) {
	all, err := s.Launches.Deployments(ctx, in.ID)
	return api.Page[api.Deployment]{Items: each(all, deploymentOf), Total: len(all)}, err
}

func (s *Server) admitDeployment(ctx context.Context, in *withID[api.Admission]) error {
	return s.Launches.Admit(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Admitted)
}

type coursePagesInput struct {
	ID string `path:"id" doc:"The interface's id"`
	Paging
	Undecided bool `query:"undecided" doc:"Only those of which nobody knows which section they are about"`
}

func (s *Server) listCoursePages(ctx context.Context, in *coursePagesInput) (page api.Page[api.CoursePage],
	err error,
) {
	all, total, err := s.Launches.Courses(ctx, launchstore.CourseFilter{
		InterfaceID: in.ID, Undecided: in.Undecided, After: in.Cursor, Limit: in.Limit,
	})
	if err != nil {
		return page, err
	}
	page = api.Page[api.CoursePage]{
		Items: []api.CoursePage{}, Total: total, Next: last(all, in.Limit,
			func(c launchstore.ListedCourse) string { return c.ID }),
	}
	for _, c := range all {
		shown, err := s.coursePageOf(ctx, c)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, shown)
	}
	return page, nil
}

func (s *Server) coursePageOf(ctx context.Context, c launchstore.ListedCourse) (api.CoursePage, error) {
	out := api.CoursePage{
		ID: c.ID, Label: c.Label, Title: c.Title, Sections: []api.SectionRef{}, DecidedBy: c.DecidedBy,
		FirstAt:  c.FirstAt,
		LatestAt: c.LatestAt, People: c.People,
	}
	sections, err := s.Launches.SectionsOf(ctx, c.Course)
	for _, x := range sections {
		out.Sections = append(out.Sections, sectionRef(x))
	}
	return out, err
}

func (s *Server) setCoursePage(ctx context.Context, in *withID[api.CoursePageSections]) error {
	return s.Launches.SetSections(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Sections)
}

func (s *Server) listCoursePageCandidates(ctx context.Context, in *byID) (api.Page[api.CoursePageCandidate], error) {
	all, err := s.Launches.Candidates(ctx, in.ID)
	return api.Page[api.CoursePageCandidate]{
		Total: len(all), Items: each(all, func(c launches.Candidate) api.CoursePageCandidate {
			return api.CoursePageCandidate{
				Section: sectionRef(c.Section), Shared: c.Shared, Opened: c.Opened, Similar: c.Similar,
			}
		}),
	}, err
}

func (s *Server) listOpenings(ctx context.Context, in *byID) (api.Page[api.PageOpening], error) {
	all, err := s.Launches.Openings(ctx, in.ID)
	return api.Page[api.PageOpening]{Total: len(all), Items: each(all, func(o launchstore.Opening) api.PageOpening {
		return api.PageOpening{
			PersonID: o.PersonID, Name: o.Name, Role: o.Role, Times: o.Times, FirstAt: o.FirstAt, LatestAt: o.LatestAt,
		}
	})}, err
}

type unrecognisedInput struct {
	ID    string `path:"id" doc:"The interface's id"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"So many at most; total says how many there are"`
}

func (s *Server) listUnrecognised(ctx context.Context, in *unrecognisedInput) (api.Page[api.Unrecognised], error) {
	all, total, err := s.Launches.Unrecognised(ctx, in.ID, in.Limit)
	return api.Page[api.Unrecognised]{Total: total, Items: each(all, func(u launchstore.Subject) api.Unrecognised {
		return api.Unrecognised{
			ID: u.ID, Subject: u.Subject, Name: u.Name, Email: u.Email, Identifier: u.Identifier, Why: u.Why,
			LatestAt: u.LatestAt,
		}
	})}, err
}

func (s *Server) sayWho(ctx context.Context, in *withID[api.WhoItIs]) error {
	return s.Launches.Say(ctx, auth.Caller(ctx).Name, in.ID, in.Body.PersonID)
}
