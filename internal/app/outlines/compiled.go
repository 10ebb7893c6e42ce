// Package outlines keeps the courses' present outlines, prepared for working progress out.
//
//	compiled := &outlines.Compiled{Store: s}
//	byCourse, err := compiled.CompiledOf(ctx, []string{courseID})
package outlines

import (
	"context"
	"sync"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
)

// Compiled keeps the outlines that a process has used, each in its latest version.
type Compiled struct {
	Store *db.Database

	mu  sync.Mutex
	all map[string]learning.CompiledOutline // by course
}

// CompiledOf gives courses by their present outlines, those that have one.
func (c *Compiled) CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error) {
	versions, err := learningstore.OutlineVersions(ctx, c.Store, courseIDs)
	if err != nil {
		return nil, err
	}
	return c.CompiledAt(ctx, versions)
}

// CompiledAt gives them where their present versions, by course, are known.
func (c *Compiled) CompiledAt(ctx context.Context, versions map[string]int) (map[string]learning.CompiledOutline,
	error,
) {
	out := map[string]learning.CompiledOutline{}
	for id, version := range versions {
		c.mu.Lock()
		kept := c.all[id]
		c.mu.Unlock()
		if kept.Course == nil || kept.Version != version {
			o, v, err := learningstore.OutlineNow(ctx, c.Store, id)
			if err != nil {
				return nil, err
			}
			kept = learning.CompiledOutline{Course: learning.NewCourse(o), Version: v}
			c.mu.Lock()
			if c.all == nil {
				c.all = map[string]learning.CompiledOutline{}
			}
			c.all[id] = kept
			c.mu.Unlock()
		}
		out[id] = kept
	}
	return out, nil
}
