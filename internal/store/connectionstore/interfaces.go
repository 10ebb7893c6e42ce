// Package connectionstore keeps connections and their interfaces, what those say of themselves,
// whose accounts are whose, and the operations that services offer.
package connectionstore

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
)

// Interface is what speaks one protocol with an outside system.
type Interface struct {
	ID           string
	ConnectionID string
	Connection   Connection // the system; read only
	Label        string     // what tells it from the others of its connection, empty for one that needs no label
	Name         string     // the connection's, with the label where there is one; see FullName
	Kind         string
	Settings     map[string]string `gorm:"serializer:json"`
	Secret       []byte            // sealed JSON object of secret values
	Probe        json.RawMessage   `gorm:"serializer:json"`
	Matching     *roster.Matching  `gorm:"serializer:json"` // nil is the default
	ProbedAt     *time.Time
	Trouble      string // why the latest comparison through it did not come about
	TroubleCode  string
	PausedAt     *time.Time // by itself; see Paused
	RemovedAt    *time.Time // switched off and hidden since then
	RemovedBy    string
	Version      int
	CreatedAt    time.Time
	UpdatedAt    time.Time
}

// FullName is what an interface is called: its connection's name, and its label if it has one.
func FullName(connection, label string) string {
	if label == "" {
		return connection
	}
	return connection + ": " + label
}

// fullName is the same in SQL, of the interface i and a name of its connection.
func fullName(connection string) string {
	return connection + ` || CASE i.label WHEN '' THEN '' ELSE ': ' END || i.label`
}

// Paused reports whether the interface is paused, by itself or with its whole connection.
func (c Interface) Paused() bool { return c.PausedAt != nil || c.Connection.PausedAt != nil }

// Recognise is how people are recognised at the interface.
func (c Interface) Recognise() roster.Matching {
	if c.Matching == nil {
		return roster.DefaultMatching()
	}
	return *c.Matching
}

// with reads interfaces together with their connections.
func with(ctx context.Context, from db.From) *gorm.DB { return from.Records(ctx).Joins("Connection") }

// Interfaces lists all that were not removed, ordered by name.
func Interfaces(ctx context.Context, from db.From) (all []Interface, err error) {
	err = with(ctx, from).Where("interfaces.removed_at IS NULL").Order("interfaces.name").Find(&all).Error
	return all, db.Known(err, "listing interfaces")
}

// RemovedInterfaces lists those that were removed and can be restored, the latest first.
func RemovedInterfaces(ctx context.Context, from db.From) (all []Interface, err error) {
	err = with(ctx, from).Where("interfaces.removed_at IS NOT NULL").Order("interfaces.removed_at DESC").
		Find(&all).Error
	return all, db.Known(err, "listing removed interfaces")
}

// FindInterface finds one by id that was not removed.
func FindInterface(ctx context.Context, from db.From, id string) (c Interface, err error) {
	err = with(ctx, from).Where("interfaces.id = ? AND interfaces.removed_at IS NULL", id).First(&c).Error
	return c, db.Known(err, "finding the interface")
}

// FindRemovedInterface finds one by id that was removed.
func FindRemovedInterface(ctx context.Context, from db.From, id string) (c Interface, err error) {
	err = with(ctx, from).Where("interfaces.id = ? AND interfaces.removed_at IS NOT NULL", id).First(&c).Error
	return c, db.Known(err, "finding the removed interface")
}

// CreateInterface makes an interface of a connection.
func CreateInterface(tx *db.Tx, c *Interface) error {
	return db.Known(tx.DB.Omit("Connection").Create(c).Error, "making the interface")
}

// NotRemoved is a condition: the record of an alias was not read through a removed interface.
func NotRemoved(alias string) string {
	return ` AND NOT EXISTS (SELECT 1 FROM interfaces hidden WHERE hidden.id = ` + alias + `.interface_id AND hidden.removed_at IS NOT NULL)`
}

// Paused is a condition: the interface of an alias is paused, by itself or with its connection.
func Paused(alias string) string {
	return `(` + alias + `.paused_at IS NOT NULL OR EXISTS (SELECT 1 FROM connections whole WHERE whole.id = ` +
		alias + `.connection_id AND whole.paused_at IS NOT NULL))`
}

// Dependent is something that hangs on an interface.
type Dependent struct {
	Kind string // pairing, score link, rule, offer, section, person
	Name string // empty for what is only counted
	N    int
}

// Dependents lists what hangs on an interface: pairings that have not ended, of it or of
// its sections; score links from it or to it; rules and offers that name it; and how many sections and people were
// read
// through it.
func Dependents(ctx context.Context, from db.From, id string) ([]Dependent, error) {
	return db.Rows[Dependent](ctx, from, "looking what depends on the interface", `
		SELECT 'pairing' AS kind, p.target_name || coalesce(' ↔ ' || f.title, '') AS name, 1 AS n FROM pairings p LEFT
			JOIN section_facts f ON f.section_id = p.section_id
			WHERE p.ended_at IS NULL AND (p.interface_id = $1 OR f.interface_id = $1)
		UNION ALL SELECT 'score link', l.source_class, 1 FROM score_links l
			WHERE l.ended_at IS NULL AND $1 IN (l.source_interface_id, l.book_interface_id)
		UNION ALL SELECT 'rule', r.name, 1 FROM rules r WHERE r.actions @>
			jsonb_build_array(jsonb_build_object('interfaceId', $1::text))
		UNION ALL SELECT 'offer', o.name, 1 FROM offers o WHERE o.interface_id = $1 OR o.platform_id = $1
		UNION ALL SELECT 'section', '', count(*)::int FROM section_facts
			WHERE interface_id = $1 AND NOT gone HAVING count(*) > 0
		UNION ALL SELECT 'person', '', count(*)::int FROM people WHERE interface_id = $1
			AND gone_at IS NULL HAVING count(*) > 0
		ORDER BY 1, 2`, id)
}

// RemoveInterface switches an interface off and hides it.
func RemoveInterface(ctx context.Context, tx *db.Tx, id, who string) error {
	changed, err := db.Exec(ctx, tx, `UPDATE interfaces SET removed_at = now(), removed_by = $2,
		version = version + 1 WHERE id = $1 AND removed_at IS NULL`, id, who)
	if err == nil && changed == 0 {
		return fmt.Errorf("removing the interface: %w", db.ErrNotFound)
	}
	if err != nil {
		return db.Known(err, "removing the interface")
	}
	if err := mirror.ChooseLeading(ctx, tx, id); err != nil {
		return err
	}
	return mirror.SectionsChanged(ctx, tx)
}

// RestoreInterface brings a removed interface back under a label.
func RestoreInterface(ctx context.Context, tx *db.Tx, id, label, name string) error {
	changed, err := db.Exec(ctx, tx, `UPDATE interfaces SET removed_at = NULL, removed_by = '', label = $2, name = $3,
		version = version + 1 WHERE id = $1 AND removed_at IS NOT NULL`, id, label, name)
	if err == nil && changed == 0 {
		return fmt.Errorf("restoring the interface: %w", db.ErrNotFound)
	}
	if err != nil {
		return db.Known(err, "restoring the interface")
	}
	if err := mirror.ChooseLeading(ctx, tx, id); err != nil {
		return err
	}
	tx.Due = true
	return mirror.SectionsChanged(ctx, tx)
}

// UpdateInterface writes an edited interface whose version must still be the
// one that was read.
func UpdateInterface(tx *db.Tx, c *Interface) error {
	read := c.Version
	c.Version++
	c.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", c.ID, read).Select("name", "label", "settings", "secret", "probe",
		"probed_at", "paused_at", "matching", "version", "updated_at").Updates(c)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the interface: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the interface")
}

// InterfaceByKey finds the one of a kind with a key among its settings; only what is
// needed to let it in is read.
func InterfaceByKey(ctx context.Context, from *db.Database, kind, key string) (c Interface, err error) {
	err = from.Quickly().Records(ctx).Where("kind = ? AND settings->>'key' = ? AND removed_at IS NULL", kind,
		key).Order("id").First(&c).Error
	return c, db.Known(err, "finding the interface")
}

// RemovedFor is how long a removed interface can be restored before it is deleted for good.
const RemovedFor = 30 * 24 * time.Hour

// DeleteInterfaces deletes for good what was removed before a time, with everything that
// hangs on it, and gives the names.
func DeleteInterfaces(ctx context.Context, from *db.Database, before time.Time) (names []string, err error) {
	all, err := RemovedInterfaces(ctx, from)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if !c.RemovedAt.Before(before) {
			continue
		}
		err := from.InTx(ctx, func(tx *db.Tx) error {
			for _, sql := range []string{
				`UPDATE deliveries SET state = 'stopped', held = 'the interface was deleted', finished_at = now()
					WHERE interface_id = $1 AND state IN ('planned', 'queued', 'retrying', 'waiting')`,
				`DELETE FROM pairings p WHERE p.interface_id = $1 OR EXISTS (SELECT 1 FROM section_facts f
					WHERE f.section_id = p.section_id AND f.interface_id = $1)`,
				`DELETE FROM statements WHERE interface_id = $1`,
				`DELETE FROM accesses WHERE interface_id = $1 OR offer_id IN (SELECT id FROM offers
					WHERE interface_id = $1)`,
				`UPDATE offers SET platform_id = NULL WHERE platform_id = $1`,
				`DELETE FROM offers WHERE interface_id = $1`,
			} {
				if _, err := db.Exec(ctx, tx, sql, c.ID); err != nil {
					return db.Known(err, "deleting an interface")
				}
			}
			if err := mirror.DropMirror(ctx, tx, c.ID); err != nil {
				return err
			}
			if _, err := db.Exec(ctx, tx, `DELETE FROM interfaces WHERE id = $1 AND removed_at IS NOT NULL`,
				c.ID); err != nil {
				return db.Known(err, "deleting an interface")
			}
			return tx.Audit(ctx, "Kanban", "deleted a removed interface for good", "interface/"+c.ID,
				map[string]string{"name": c.Name})
		})
		if err != nil {
			return names, err
		}
		names = append(names, c.Name)
	}
	return names, nil
}

// KeepProbe stores what a probe found.
func KeepProbe(ctx context.Context, tx *db.Tx, id string, probe any, at time.Time) error {
	text, err := json.Marshal(probe)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `UPDATE interfaces SET probe = $2, probed_at = $3 WHERE id = $1`, id, string(text), at)
	return db.Known(err, "keeping the probe")
}

// KeepSetting gives a setting of an interface another value; changed says whether it had another
// one.
func KeepSetting(ctx context.Context, tx *db.Tx, id, name, value string) (changed bool, err error) {
	n, err := db.Exec(ctx, tx, `UPDATE interfaces SET settings = jsonb_set(settings, ARRAY[$2], to_jsonb($3::text)),
		version = version + 1, updated_at = now() WHERE id = $1 AND settings->>$2 IS DISTINCT FROM $3`, id, name, value)
	return n > 0, db.Known(err, "keeping a setting of the interface")
}

// PauseInterface pauses an interface that is not paused yet; paused says whether it did.
func PauseInterface(ctx context.Context, tx *db.Tx, id string, at time.Time) (paused bool, err error) {
	n, err := db.Exec(ctx, tx, `UPDATE interfaces SET paused_at = $2, version = version + 1, updated_at = now()
		WHERE id = $1 AND paused_at IS NULL`, id, at)
	return n > 0, db.Known(err, "pausing the interface")
}

// KeepAccount stores whose account this is; a person's earlier account is replaced.
func KeepAccount(ctx context.Context, tx *db.Tx, interfaceID, remoteID, personID string) error {
	// The old one goes first: a statement that did both would not see that its place is free.
	_, err := db.Exec(ctx, tx, `DELETE FROM accounts WHERE interface_id = $1 AND person_id = $3 AND remote_id <> $2`,
		interfaceID, remoteID, personID)
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO accounts (interface_id, remote_id, person_id) VALUES ($1, $2, $3)
		ON CONFLICT (interface_id, remote_id) DO UPDATE SET person_id = excluded.person_id`, interfaceID, remoteID, personID)
	}
	return db.Known(err, "storing the account")
}

// EventsFrom reports whether any event was reported through an interface.
func EventsFrom(ctx context.Context, from db.From, interfaceID string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM events
		WHERE type = 'service.reported' AND data->>'interfaceId' = $1)`, interfaceID)
	return yes, db.Known(err, "looking for reported events")
}

// StatementsFrom counts the statements that came through an interface.
func StatementsFrom(ctx context.Context, from db.From, interfaceID string) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*) FROM statements WHERE interface_id = $1`, interfaceID)
	return n, db.Known(err, "counting statements")
}

// HomePages gives the home page of the accounts of interfaces, by id, "" for none yet.
func HomePages(ctx context.Context, from *db.Database, ids []string) (map[string]string, error) {
	if len(ids) == 0 {
		return map[string]string{}, nil
	}
	return db.Map[string, string](ctx, from.Quickly(), "reading home pages", `SELECT id::text AS key,
		coalesce(settings->>'homePage', '') AS value FROM interfaces WHERE id = ANY ($1::text[]::uuid[])`, ids)
}

// KeepHomePage keeps the home page of an interface's accounts unless there is one already,
// and gives the one that there is.
func KeepHomePage(ctx context.Context, from *db.Database, id, page string) (kept string, err error) {
	if _, err = db.Exec(ctx, from, `UPDATE interfaces SET settings = settings || jsonb_build_object('homePage',
		$2::text), version = version + 1 WHERE id = $1 AND coalesce(settings->>'homePage', '') = ''`, id, page); err != nil {
		return "", db.Known(err, "keeping a home page")
	}
	all, err := HomePages(ctx, from, []string{id})
	return all[id], err
}

// PageTemplates gives the settings of the interfaces with a template for the other side's pages, by
// id.
func PageTemplates(ctx context.Context, from db.From) (map[string]map[string]string, error) {
	var all []Interface
	err := from.Records(ctx).Select("id", "settings").Where(`removed_at IS NULL AND (settings->>'classPage' <> ''
		OR settings->>'personPage' <> '' OR settings->>'deliveryPage' <> '')`).Find(&all).Error
	out := make(map[string]map[string]string, len(all))
	for _, x := range all {
		out[x.ID] = x.Settings
	}
	return out, db.Known(err, "reading the templates of pages")
}

// OriginListed reports whether an interface of a kind lists an origin among its setting origins.
func OriginListed(ctx context.Context, from db.From, kind, origin string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM interfaces WHERE kind = $1 AND removed_at IS NULL
		AND $2 = ANY (regexp_split_to_array(settings->>'origins', '\s+')))`, kind, origin)
	return yes, db.Known(err, "looking for an origin")
}
