package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// partitioned are the tables that are kept in partitions, one for each month by the
// time that begins an id (UUID version 7, RFC 9562 section 5.7), with the column that
// holds the id. What fits in no month stands in a partition called rest.
var partitioned = []struct{ table, column string }{{"events", "id"}, {"attempts", "delivery_id"}}

// monthsAhead is for how many months partitions are made in advance.
const monthsAhead = 2

// FirstID is the smallest id that can be made at a time.
func FirstID(at time.Time) string {
	var id uuid.UUID
	ms := uint64(at.UnixMilli())
	for i := range 6 {
		id[i] = byte(ms >> (40 - 8*i))
	}
	return id.String()
}

// timeOf is when an id was made.
func timeOf(id uuid.UUID) time.Time {
	var ms uint64
	for i := range 6 {
		ms = ms<<8 | uint64(id[i])
	}
	return time.UnixMilli(int64(ms)).UTC()
}

// MonthOf is the first moment of the month of a time, in UTC.
func MonthOf(at time.Time) time.Time {
	at = at.UTC()
	return time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
}

func partitionName(table string, month time.Time) string {
	return fmt.Sprintf("%s_%04d_%02d", table, month.Year(), month.Month())
}

// EnsurePartitions makes the partitions of this month and the next ones, and of those
// earlier ones whose rows stand in the rest.
func (s *Store) EnsurePartitions(ctx context.Context, now time.Time) error {
	for _, p := range partitioned {
		var earliest *string
		if err := s.Pool.QueryRow(ctx, `SELECT `+p.column+`::text FROM `+p.table+`_rest ORDER BY `+p.column+` LIMIT 1`).Scan(&earliest); err != nil && err != pgx.ErrNoRows {
			return known(err, "looking at the partitions")
		}
		month := MonthOf(now)
		if earliest != nil {
			if id, err := uuid.Parse(*earliest); err == nil && timeOf(id).Before(month) && timeOf(id).Year() >= 2020 {
				month = MonthOf(timeOf(id))
			}
		}
		for last := MonthOf(now).AddDate(0, monthsAhead, 0); !month.After(last); month = month.AddDate(0, 1, 0) {
			if err := s.ensurePartition(ctx, p.table, p.column, month); err != nil {
				return fmt.Errorf("making the partition %s: %w", partitionName(p.table, month), err)
			}
		}
	}
	return nil
}

func (s *Store) ensurePartition(ctx context.Context, table, column string, month time.Time) error {
	name := partitionName(table, month)
	from, to := FirstID(month), FirstID(month.AddDate(0, 1, 0))
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended('partition/' || $1, 0))`, table); err != nil {
			return err
		}
		var there bool
		if err := tx.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, name).Scan(&there); err != nil || there {
			return err
		}
		for _, sql := range []string{
			notLong, `CREATE TABLE ` + name + ` (LIKE ` + table + ` INCLUDING DEFAULTS INCLUDING CONSTRAINTS)`,
			fmt.Sprintf(`WITH moved AS (DELETE FROM %s_rest WHERE %s >= '%s' AND %s < '%s' RETURNING *) INSERT INTO %s SELECT * FROM moved`, table, column, from, column, to, name),
			fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM ('%s') TO ('%s')`, table, name, from, to),
		} {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

// Month is what is kept of one month.
type Month struct {
	First  time.Time // its first moment, UTC
	Events int64     // how many; about, when they are many
	Bytes  int64     // of events and attempts with their indexes
}

// Months lists the months of which events are kept, the oldest first.
func (s *Store) Months(ctx context.Context) ([]Month, error) {
	rows, err := s.Pool.Query(ctx, `SELECT c.relname, p.relname, greatest(c.reltuples, 0)::bigint, pg_total_relation_size(c.oid) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname IN ('events', 'attempts') AND c.relname ~ '_[0-9]{4}_[0-9]{2}$' ORDER BY right(c.relname, 7)`)
	if err != nil {
		return nil, known(err, "listing the months")
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
			err = s.Pool.QueryRow(ctx, `SELECT count(*) FROM events WHERE id >= $1 AND id < $2`, FirstID(m.First), FirstID(m.First.AddDate(0, 1, 0))).Scan(&m.Events)
		}
	}
	return list, known(err, "listing the months")
}

// deletedAtOnce is how many deliveries go in one statement.
const deletedAtOnce = 5_000

// Drop removes everything that happened in months before a time: attempts, deliveries
// and events. Deliveries that are not over stay, and so does what they are about. What
// people have had once stays known.
func (s *Store) Drop(ctx context.Context, before time.Time) error {
	months, err := s.Months(ctx)
	if err != nil {
		return err
	}
	for _, m := range months {
		next := m.First.AddDate(0, 1, 0)
		if next.After(before) {
			break
		}
		from, to := FirstID(m.First), FirstID(next)
		const open = `state IN ('planned', 'queued', 'retrying', 'waiting')`
		if err := s.dropUnless(ctx, partitionName("attempts", m.First), `SELECT EXISTS (SELECT 1 FROM deliveries WHERE id >= $1 AND id < $2 AND `+open+`)`, from, to); err != nil {
			return err
		}
		for {
			tag, err := s.Pool.Exec(ctx, `WITH gone AS (DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE id >= $1 AND id < $2 AND NOT `+open+` LIMIT $3) RETURNING once_key)
				, kept AS (INSERT INTO spent_keys SELECT DISTINCT key_of(once_key) FROM gone WHERE once_key IS NOT NULL ON CONFLICT DO NOTHING) SELECT 1 FROM gone`, from, to, deletedAtOnce)
			if err != nil {
				return known(err, "removing old deliveries")
			}
			if tag.RowsAffected() < deletedAtOnce {
				break
			}
		}
		if err := s.dropUnless(ctx, partitionName("events", m.First), `SELECT EXISTS (SELECT 1 FROM deliveries WHERE event_id >= $1 AND event_id < $2)`, from, to); err != nil {
			return err
		}
	}
	return nil
}

// dropUnless removes a partition, unless a query answers true.
func (s *Store) dropUnless(ctx context.Context, name, query, from, to string) error {
	var yes bool
	if err := s.Pool.QueryRow(ctx, query, from, to).Scan(&yes); err != nil || yes {
		return known(err, "looking at what is still needed")
	}
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, notLong); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `DROP TABLE IF EXISTS `+pgx.Identifier{strings.ToLower(name)}.Sanitize())
		return err
	})
	return known(err, "removing a month")
}

// notLong bounds how long a change of partitions waits for others, who wait behind it;
// it is tried again later.
const notLong = `SET LOCAL lock_timeout = '5s'`

// FoldTallies sums up how often rules fired.
func (s *Store) FoldTallies(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, `WITH folded AS (DELETE FROM rule_tallies RETURNING rule_id, fired, delivered)
		INSERT INTO rule_tallies (rule_id, fired, delivered) SELECT rule_id, sum(fired), sum(delivered) FROM folded GROUP BY rule_id`)
	return known(err, "summing up")
}
