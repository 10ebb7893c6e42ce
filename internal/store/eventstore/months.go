package eventstore

import (
	"context"
	"strings"
	"time"

	"kanban/internal/store/db"
)

// Month is what is kept of one month.
type Month struct {
	First  time.Time // its first moment, UTC
	Events int64     // how many; about, when they are many
	Bytes  int64     // of events and attempts with their indexes
}

// Months lists the months of which events are kept, the oldest first.
func Months(ctx context.Context, from db.From) ([]Month, error) {
	type part struct {
		Name, Parent  string
		Events, Bytes int64
	}
	parts, err := db.Rows[part](ctx, from, "listing the months", `SELECT c.relname::text AS name,
		p.relname::text AS parent, greatest(c.reltuples, 0)::bigint AS events, pg_total_relation_size(c.oid) AS bytes
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname IN ('events', 'attempts') AND c.relname ~ '_[0-9]{4}_[0-9]{2}$' ORDER BY right(c.relname, 7)`)
	var list []Month
	for _, x := range parts {
		first, err := time.Parse("2006_01", x.Name[len(x.Name)-7:])
		if err != nil {
			return nil, err
		}
		if len(list) == 0 || !list[len(list)-1].First.Equal(first) {
			list = append(list, Month{First: first})
		}
		m := &list[len(list)-1]
		m.Bytes += x.Bytes
		if x.Parent == "events" {
			m.Events = x.Events
		}
	}
	for i := range list { // few are counted; of many it is known about how many there are
		if m := &list[i]; err == nil && m.Events < 100_000 {
			err = db.Into(ctx, from, &m.Events, `SELECT count(*) FROM events WHERE id >= $1 AND id < $2`,
				db.FirstID(m.First), db.FirstID(m.First.AddDate(0, 1, 0)))
		}
	}
	return list, db.Known(err, "listing the months")
}

// Drop removes everything that happened in months before a time: attempts, deliveries
// and events. Deliveries that are not over stay, and so does what they are about. What
// people have had once stays known.
func Drop(ctx context.Context, source *db.Database, before time.Time) error {
	months, err := Months(ctx, source)
	if err != nil {
		return err
	}
	for _, m := range months {
		next := m.First.AddDate(0, 1, 0)
		if next.After(before) {
			break
		}
		from, to := db.FirstID(m.First), db.FirstID(next)
		const open = `state IN ('planned', 'queued', 'retrying', 'waiting')`
		if err := dropUnless(ctx, source, db.PartitionName("attempts", m.First), `SELECT EXISTS (SELECT 1
			FROM deliveries WHERE id >= $1 AND id < $2 AND `+open+`)`, from, to); err != nil {
			return err
		}
		for {
			changed, err := db.Exec(ctx, source, `WITH gone AS (DELETE FROM deliveries WHERE id IN (SELECT id
				FROM deliveries WHERE id >= $1 AND id < $2 AND NOT `+open+` LIMIT $3) RETURNING once_key)
				, kept AS (INSERT INTO spent_keys SELECT DISTINCT key_of(once_key) FROM gone
					WHERE once_key IS NOT NULL ON CONFLICT DO NOTHING) SELECT 1 FROM gone`, from, to, db.DeletedAtOnce)
			if err != nil {
				return db.Known(err, "removing old deliveries")
			}
			if changed < db.DeletedAtOnce {
				break
			}
		}
		if err := dropUnless(ctx, source, db.PartitionName("events", m.First), `SELECT EXISTS (SELECT 1
			FROM deliveries WHERE event_id >= $1 AND event_id < $2)`, from, to); err != nil {
			return err
		}
	}
	return nil
}

// dropUnless removes a partition, unless a query answers true.
func dropUnless(ctx context.Context, source *db.Database, name, query, from, to string) error {
	var yes bool
	if err := db.Into(ctx, source, &yes, query, from, to); err != nil || yes {
		return db.Known(err, "looking at what is still needed")
	}
	err := source.InTx(ctx, func(tx *db.Tx) error {
		if _, err := db.Exec(ctx, tx, db.NotLong); err != nil {
			return err
		}
		_, err := db.Exec(ctx, tx, `DROP TABLE IF EXISTS `+db.Quoted(strings.ToLower(name)))
		return err
	})
	return db.Known(err, "removing a month")
}
