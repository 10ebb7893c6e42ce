package rosterstore

import (
	"context"
	"sync"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// sectionList holds in memory what lists of sections show. Ten thousand take a third of
// a second to read, and hardly any changes from one look to the next. What is held is
// never trusted: each look first asks the database what has changed.
type sectionList struct {
	mu       sync.Mutex
	version  int64
	sections []Section
}

// Sections lists every section of every register, ordered by title, vanished ones
// too. The list is shared: do not change it.
func Sections(ctx context.Context, from *db.Database) ([]Section, error) {
	var version int64
	if err := db.Into(ctx, from, &version, `SELECT version FROM section_version`); err != nil {
		return nil, db.Known(err, "listing sections")
	}
	held := db.Kept[sectionList](from)
	held.mu.Lock()
	defer held.mu.Unlock()
	if held.sections != nil && held.version == version {
		return held.sections, nil
	}
	// What is read now may be newer than the version read before. Then the next
	// look reads it once more.
	var all []Section
	err := db.EachFast(ctx, from, "listing sections",
		sectionsSQL+` WHERE true`+connectionstore.NotRemoved("f")+` ORDER BY f.title, f.section_id`, nil,
		func(x Section) error {
			all = append(all, x)
			return nil
		})
	if err == nil {
		held.sections, held.version = all, version
	}
	return all, err
}

// RefreshSections works out anew what lists show: of the sections with these ids,
// or of every section of the register when ids is nil.
func RefreshSections(ctx context.Context, tx *db.Tx, interfaceID string, ids []string) error {
	if _, err := db.Exec(ctx, tx, `SELECT refresh_section_facts($1, $2::text[]::uuid[])`, interfaceID,
		ids); err != nil {
		return db.Known(err, "working out what lists show")
	}
	return RefreshPeopleLists(ctx, tx, interfaceID)
}
