package reacting

import (
	"context"
	"io"
	"strings"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/store"
	"kanban/internal/wire/cartridge"
)

// LoadCartridge replaces a course's outline by that of a Common Cartridge
// manifest. The folders at the top become modules, the leaves below them
// activities; prefix and a leaf's identifier give the IRI under which its
// statements come.
func (s *Service) LoadCartridge(ctx context.Context, who, courseID, prefix string, manifest io.Reader) (learning.Outline, error) {
	items, err := cartridge.Parse(manifest)
	if err != nil {
		return learning.Outline{}, refusal.Invalid("manifest", "%v", err)
	}
	var o learning.Outline
	for _, i := range items {
		m := learning.Module{ID: i.ID, Title: i.Title}
		if i.Resource != "" { // a leaf at the top is a module of its own
			i.Items = []cartridge.Item{i}
		}
		leaves(i.Items, prefix, &m.Activities)
		o.Modules = append(o.Modules, m)
	}
	return o, s.SetOutline(ctx, who, courseID, o)
}

func leaves(items []cartridge.Item, prefix string, into *[]learning.Activity) {
	for _, i := range items {
		if i.Resource != "" {
			*into = append(*into, learning.Activity{ID: prefix + i.ID, Title: i.Title, Kind: kindOf(i.Resource)})
		}
		leaves(i.Items, prefix, into)
	}
}

// kindOf reads a resource type by its prefix, as versions differ.
func kindOf(resource string) learning.Kind {
	switch {
	case strings.HasPrefix(resource, "imsqti_") && strings.HasSuffix(resource, "/assessment"):
		return learning.Assessment
	case strings.HasPrefix(resource, "assignment_"):
		return learning.Assignment
	}
	return learning.Lesson
}

// SetOutline replaces a course's outline.
func (s *Service) SetOutline(ctx context.Context, who, courseID string, o learning.Outline) error {
	if err := o.Check(); err != nil {
		return refusal.Invalid("outline", "%v", err)
	}
	if err := s.knowsCourse(ctx, courseID); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.SetOutline(ctx, courseID, o); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, store.ResolveStatements{}); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set an outline", "course/"+courseID, map[string]int{"modules": len(o.Modules)})
	})
}

func (s *Service) knowsCourse(ctx context.Context, id string) error {
	courses, err := s.Store.Courses(ctx)
	if err != nil {
		return err
	}
	for _, c := range courses {
		if c.ID == id {
			return nil
		}
	}
	return refusal.Invalid("courseId", "there is no course %q; list them with: kanban courses list", id)
}
