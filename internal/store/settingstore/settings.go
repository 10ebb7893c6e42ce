// Package settingstore keeps what holds for the whole installation.
package settingstore

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"kanban/internal/store/db"
)

// FindSetting reads a value of the installation into into; ok is false when it was
// never set.
func FindSetting(ctx context.Context, from db.From, name string, into any) (ok bool, err error) {
	var text []byte
	err = db.Into(ctx, from, &text, `SELECT value FROM installation WHERE name = $1`, "setting/"+name)
	if errors.Is(err, db.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, db.Known(err, "reading a setting")
	}
	return true, json.Unmarshal(text, into)
}

// Maintenance says that everything is paused, since when, by whom and why.
type Maintenance struct {
	Since *time.Time `json:"since,omitempty"` // nil when nothing is paused
	By    string     `json:"by,omitempty"`
	Note  string     `json:"note,omitempty"`
}

// FindMaintenance tells whether everything is paused.
func FindMaintenance(ctx context.Context, from db.From) (m Maintenance, err error) {
	_, err = FindSetting(ctx, from, "maintenance", &m)
	return m, err
}

// SaveSetting keeps a value of the installation.
func SaveSetting(ctx context.Context, tx *db.Tx, name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO installation (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE
		SET value = excluded.value`, "setting/"+name, text)
	return db.Known(err, "keeping a setting")
}

// ProgressCheck is what comparing kept progress with what is recorded found.
type ProgressCheck struct {
	NextAt    *time.Time `json:"nextAt,omitempty"`
	StartedAt *time.Time `json:"startedAt,omitempty"` // nil unless it is being done
	EndedAt   *time.Time `json:"endedAt,omitempty"`
	Checked   int        `json:"checked"` // people in sections
	Wrong     int        `json:"wrong"`   // of them it differed
	Mended    bool       `json:"mended"`  // and was set right
	Courses   []string   `json:"courses,omitempty"`
	Trouble   string     `json:"trouble,omitempty"` // why it could not be done, the last time
}

// progressCheck is the setting that keeps it.
const progressCheck = "progress-check"

// FindProgressCheck gives what the last comparison found.
func FindProgressCheck(ctx context.Context, from db.From) (c ProgressCheck, err error) {
	_, err = FindSetting(ctx, from, progressCheck, &c)
	return c, err
}

// SaveProgressCheck keeps it.
func SaveProgressCheck(ctx context.Context, tx *db.Tx, c ProgressCheck) error {
	return SaveSetting(ctx, tx, progressCheck, c)
}
