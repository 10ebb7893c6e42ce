package outlines

import (
	"context"

	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/store/learningstore"
)

// CourseTitle gives the title of a course, empty when it is not there any more.
func (s *Service) CourseTitle(ctx context.Context, id string) (string, error) {
	return learningstore.CourseTitle(ctx, s.Store, id)
}

// FindCourses finds courses by a part of title or code, at most so many unless the limit is 0, and
// counts how many fit.
func (s *Service) FindCourses(ctx context.Context, text string, limit int, within *permission.Reach) (
	[]learningstore.Course, int, error,
) {
	return learningstore.FindCourses(ctx, s.Store, text, limit, within)
}

// Outline finds the outline of a course.
func (s *Service) Outline(ctx context.Context, courseID string) (learning.Outline, error) {
	return learningstore.Outline(ctx, s.Store, courseID)
}
