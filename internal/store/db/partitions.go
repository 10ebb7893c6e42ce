package db

import (
	"context"
	"fmt"
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

// PartitionName is what the partition of a table for a month is called.
func PartitionName(table string, month time.Time) string {
	return fmt.Sprintf("%s_%04d_%02d", table, month.Year(), month.Month())
}

// EnsurePartitions makes the partitions of this month and the next ones, and of those
// earlier ones whose rows stand in the rest.
func (s *Database) EnsurePartitions(ctx context.Context, now time.Time) error {
	for _, p := range partitioned {
		var earliest *string
		sql := `SELECT ` + p.column + `::text FROM ` + p.table + `_rest ORDER BY ` + p.column + ` LIMIT 1`
		if err := s.Pool.QueryRow(ctx, sql).Scan(&earliest); err != nil && err != pgx.ErrNoRows {
			return Known(err, "looking at the partitions")
		}
		month := MonthOf(now)
		if earliest != nil {
			if id, err := uuid.Parse(*earliest); err == nil && timeOf(id).Before(month) && timeOf(id).Year() >= 2020 {
				month = MonthOf(timeOf(id))
			}
		}
		for last := MonthOf(now).AddDate(0, monthsAhead, 0); !month.After(last); month = month.AddDate(0, 1, 0) {
			if err := s.ensurePartition(ctx, p.table, p.column, month); err != nil {
				return fmt.Errorf("making the partition %s: %w", PartitionName(p.table, month), err)
			}
		}
	}
	return nil
}

func (s *Database) ensurePartition(ctx context.Context, table, column string, month time.Time) error {
	name := PartitionName(table, month)
	from, to := FirstID(month), FirstID(month.AddDate(0, 1, 0))
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended('partition/' || $1, 0))`,
			table); err != nil {
			return err
		}
		var there bool
		if err := tx.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, name).Scan(&there); err != nil || there {
			return err
		}
		for _, sql := range []string{
			NotLong, `CREATE TABLE ` + name + ` (LIKE ` + table + ` INCLUDING DEFAULTS INCLUDING CONSTRAINTS)`,
			fmt.Sprintf(`WITH moved AS (DELETE FROM %s_rest WHERE %s >= '%s' AND %s < '%s'
				RETURNING *) INSERT INTO %s SELECT * FROM moved`, table, column, from, column, to, name),
			fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM ('%s') TO ('%s')`, table, name, from, to),
		} {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

// NotLong bounds how long a change of partitions waits for others, who wait behind it;
// it is tried again later.
const NotLong = `SET LOCAL lock_timeout = '5s'`

// DeletedAtOnce is how many deliveries go in one statement.
const DeletedAtOnce = 5_000
