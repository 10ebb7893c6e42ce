package eventstore

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/store/db"
)

// Month is what is kept of one month.
type Month struct {
	First  time.Time // its first moment, UTC
	Events int64     // how many; about, when they are many
	Bytes  int64     // of events and attempts with their indexes
}

// Months lists the months of which events are kept, the oldest first.
func Months(ctx context.Context, from *db.Database) ([]Month, error) {
	rows, err := from.Pool.Query(ctx, `SELECT c.relname, p.relname, greatest(c.reltuples, 0)::bigint, pg_total_relation_size(c.oid) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname IN ('events', 'attempts') AND c.relname ~ '_[0-9]{4}_[0-9]{2}$' ORDER BY right(c.relname, 7)`)
	if err != nil {
		return nil, db.Known(err, "listing the months")
	}
	var list []Month
	var name, table string
	var events, bytes int64
	_, err = pgx.ForEachRow(rows, []any{&name, &table, &events, &bytes}, func() error {
		first, err := time.Parse("2006_01", name[len(name)-7:])
		if err != nil {
			return err
		}
		if len(list) == 0 || !list[len(list)-1].First.Equal(first) {
			list = append(list, Month{First: first})
		}
		m := &list[len(list)-1]
		m.Bytes += bytes
		if table == "events" {
			m.Events = events
		}
		return nil
	})
	for i := range list { // few are counted; of many it is known about how many there are
		if m := &list[i]; err == nil && m.Events < 100_000 {
			err = from.Pool.QueryRow(ctx, `SELECT count(*) FROM events WHERE id >= $1 AND id < $2`, db.FirstID(m.First), db.FirstID(m.First.AddDate(0, 1, 0))).Scan(&m.Events)
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
		if err := dropUnless(ctx, source, db.PartitionName("attempts", m.First), `SELECT EXISTS (SELECT 1 FROM deliveries WHERE id >= $1 AND id < $2 AND `+open+`)`, from, to); err != nil {
			return err
		}
		for {
			tag, err := source.Pool.Exec(ctx, `WITH gone AS (DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE id >= $1 AND id < $2 AND NOT `+open+` LIMIT $3) RETURNING once_key)
				, kept AS (INSERT INTO spent_keys SELECT DISTINCT key_of(once_key) FROM gone WHERE once_key IS NOT NULL ON CONFLICT DO NOTHING) SELECT 1 FROM gone`, from, to, db.DeletedAtOnce)
			if err != nil {
				return db.Known(err, "removing old deliveries")
			}
			if tag.RowsAffected() < db.DeletedAtOnce {
				break
			}
		}
		if err := dropUnless(ctx, source, db.PartitionName("events", m.First), `SELECT EXISTS (SELECT 1 FROM deliveries WHERE event_id >= $1 AND event_id < $2)`, from, to); err != nil {
			return err
		}
	}
	return nil
}

// dropUnless removes a partition, unless a query answers true.
func dropUnless(ctx context.Context, source *db.Database, name, query, from, to string) error {
	var yes bool
	if err := source.Pool.QueryRow(ctx, query, from, to).Scan(&yes); err != nil || yes {
		return db.Known(err, "looking at what is still needed")
	}
	err := pgx.BeginFunc(ctx, source.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, db.NotLong); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `DROP TABLE IF EXISTS `+pgx.Identifier{strings.ToLower(name)}.Sanitize())
		return err
	})
	return db.Known(err, "removing a month")
}
