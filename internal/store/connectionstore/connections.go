package connectionstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
)

// Connection is an outside system, with what holds for all its interfaces.
type Connection struct {
	ID        string
	Name      string
	Owner     string // who minds it
	Address   string // of its own pages
	Notes     string
	AtOnce    int // calls at a time through all its interfaces, 0 for no limit of its own
	PerMinute int // the same in a minute
	RestAfter int // failures in a row until it rests, 0 for the usual number
	PausedAt  *time.Time
	RemovedAt *time.Time // switched off and hidden since then
	RemovedBy string
	Version   int
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Connections lists all that were not removed, ordered by name.
func Connections(ctx context.Context, from db.From) (all []Connection, err error) {
	err = from.Records(ctx).Where("removed_at IS NULL").Order("lower(name)").Find(&all).Error
	return all, db.Known(err, "listing connections")
}

// RemovedConnections lists those that were removed and can be restored, the latest first.
func RemovedConnections(ctx context.Context, from db.From) (all []Connection, err error) {
	err = from.Records(ctx).Where("removed_at IS NOT NULL").Order("removed_at DESC").Find(&all).Error
	return all, db.Known(err, "listing removed connections")
}

// FindConnection finds one by id that was not removed.
func FindConnection(ctx context.Context, from db.From, id string) (c Connection, err error) {
	err = from.Records(ctx).Where("id = ? AND removed_at IS NULL", id).First(&c).Error
	return c, db.Known(err, "finding the connection")
}

// FindRemovedConnection finds one by id that was removed.
func FindRemovedConnection(ctx context.Context, from db.From, id string) (c Connection, err error) {
	err = from.Records(ctx).Where("id = ? AND removed_at IS NOT NULL", id).First(&c).Error
	return c, db.Known(err, "finding the removed connection")
}

// LockConnection finds one that was not removed, and keeps it as it is until the transaction
// ends: interfaces are named after it.
func LockConnection(ctx context.Context, tx *db.Tx, id string) (c Connection, err error) {
	err = tx.DB.Raw(`SELECT * FROM connections WHERE id = ? AND removed_at IS NULL FOR UPDATE`, id).Scan(&c).Error
	if err == nil && c.ID == "" {
		err = db.ErrNotFound
	}
	return c, db.Known(err, "finding the connection")
}

// InterfacesOf lists those of a connection that were not removed, in the order in which they were
// made.
func InterfacesOf(ctx context.Context, from db.From, connectionID string) (all []Interface, err error) {
	err = with(ctx, from).Where("interfaces.connection_id = ? AND interfaces.removed_at IS NULL", connectionID).
		Order("interfaces.created_at, interfaces.id").Find(&all).Error
	return all, db.Known(err, "listing interfaces")
}

// UpdateConnection writes an edited connection whose version must still be the one that was read,
// and names its interfaces after it.
func UpdateConnection(ctx context.Context, tx *db.Tx, c *Connection) error {
	read := c.Version
	c.Version++
	c.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", c.ID, read).Select("name", "owner", "address", "notes", "at_once",
		"per_minute", "rest_after", "paused_at", "version", "updated_at").Updates(c)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the connection: %w", db.ErrStale)
	}
	if done.Error != nil {
		return db.Known(done.Error, "changing the connection")
	}
	return nameInterfaces(ctx, tx, c.ID)
}

// nameInterfaces names those of a connection after it, as FullName does.
func nameInterfaces(ctx context.Context, tx *db.Tx, connectionID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE interfaces i SET name = `+fullName("c.name")+`
		FROM connections c WHERE c.id = i.connection_id AND c.id = $1 AND i.removed_at IS NULL`, connectionID)
	return db.Known(err, "naming the interfaces")
}

// RemoveConnection switches a connection off and hides it. Its interfaces are removed by the
// caller, in the same transaction.
func RemoveConnection(ctx context.Context, tx *db.Tx, id, who string) error {
	changed, err := db.Exec(ctx, tx, `UPDATE connections SET removed_at = now(), removed_by = $2,
		version = version + 1 WHERE id = $1 AND removed_at IS NULL`, id, who)
	if err == nil && changed == 0 {
		return fmt.Errorf("removing the connection: %w", db.ErrNotFound)
	}
	return db.Known(err, "removing the connection")
}

// RestoreConnection brings a removed connection back under a name, with the interfaces that were
// removed together with it, and gives their ids.
func RestoreConnection(ctx context.Context, tx *db.Tx, id, name string) (interfaces []string, err error) {
	interfaces, err = db.Values[string](ctx, tx, "restoring the interfaces", `UPDATE interfaces i SET removed_at = NULL,
		removed_by = '', name = `+fullName("$2::text")+`, version = i.version + 1
		FROM connections c WHERE c.id = i.connection_id AND c.id = $1 AND i.removed_at >= c.removed_at
		RETURNING i.id::text`, id, name)
	if err != nil {
		return nil, err
	}
	changed, err := db.Exec(ctx, tx, `UPDATE connections SET removed_at = NULL, removed_by = '', name = $2,
		version = version + 1 WHERE id = $1 AND removed_at IS NOT NULL`, id, name)
	if err == nil && changed == 0 {
		return nil, fmt.Errorf("restoring the connection: %w", db.ErrNotFound)
	}
	if err != nil {
		return nil, db.Known(err, "restoring the connection")
	}
	if err := mirror.ChooseLeading(ctx, tx, interfaces...); err != nil {
		return nil, err
	}
	tx.Due = true
	return interfaces, mirror.SectionsChanged(ctx, tx)
}

// DeleteConnections deletes for good what was removed before a time and has no interface left, and
// gives the names.
func DeleteConnections(ctx context.Context, from *db.Database, before time.Time) (names []string, err error) {
	err = from.InTx(ctx, func(tx *db.Tx) error {
		gone, err := db.Rows[struct{ ID, Name string }](ctx, tx, "deleting connections", `DELETE FROM connections c
			WHERE c.removed_at < $1 AND NOT EXISTS (SELECT 1 FROM interfaces i WHERE i.connection_id = c.id)
			RETURNING c.id::text, c.name`, before)
		for _, c := range gone {
			if err := tx.Audit(ctx, "Kanban", "deleted a removed connection for good", "connection/"+c.ID,
				map[string]string{"name": c.Name}); err != nil {
				return err
			}
			names = append(names, c.Name)
		}
		return err
	})
	return names, err
}
