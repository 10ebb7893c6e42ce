package launches

import (
	"context"
	"slices"

	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/rosterstore"
)

// Courses lists the course pages of a platform in which links were opened, with how many there are.
func (s *Service) Courses(ctx context.Context, f launchstore.CourseFilter) (all []launchstore.ListedCourse, total int,
	err error,
) {
	if _, err := s.platform(ctx, f.InterfaceID); err != nil {
		return nil, 0, err
	}
	if total, err = launchstore.CountCourses(ctx, s.Store, f); err != nil {
		return nil, 0, err
	}
	all, err = launchstore.Courses(ctx, s.Store, f)
	return all, total, err
}

// SectionsOf are the sections that a course page is about.
func (s *Service) SectionsOf(ctx context.Context, c launchstore.Course) ([]rosterstore.Section, error) {
	return rosterstore.SectionsByID(ctx, s.Store, c.SectionIDs)
}

// In says whether somebody teaches in sections of a course page, by the register now, and in which they learn.
func (s *Service) In(ctx context.Context, personID string, c launchstore.Course) (teaches bool,
	learnt []rosterstore.Section,
	err error,
) {
	all, err := rosterstore.SectionsOf(ctx, s.Store, []string{personID}, nil)
	if err != nil {
		return false, nil, err
	}
	var ids []string
	for _, e := range all {
		switch {
		case !slices.Contains(c.SectionIDs, e.SectionID):
		case e.Role == string(roster.Student):
			ids = append(ids, e.SectionID)
		case e.Role == string(roster.Teacher):
			teaches = true
		}
	}
	if len(ids) > 0 {
		learnt, err = rosterstore.SectionsByID(ctx, s.Store, ids)
	}
	return teaches, learnt, err
}

// Openings lists the people of a course page's sections with how often they opened it, those who never did first.
func (s *Service) Openings(ctx context.Context, id string) ([]launchstore.Opening, error) {
	if _, err := launchstore.FindCourse(ctx, s.Store, id); err != nil {
		return nil, err
	}
	return launchstore.Openings(ctx, s.Store, id)
}

// SetSections says which sections a course page is about; none lets the platform's own ids say it again.
func (s *Service) SetSections(ctx context.Context, who, id string, sections []string) error {
	slices.Sort(sections)
	sections = slices.Compact(sections)
	for _, x := range sections {
		if _, err := rosterstore.FindSection(ctx, s.Store, x); err != nil {
			return err
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		by := who
		if len(sections) == 0 {
			by = ""
		}
		if err := launchstore.SetSections(ctx, tx, id, sections, by); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "said which sections a course page is about", "course-page/"+id,
			map[string][]string{"sections": sections})
	})
}
