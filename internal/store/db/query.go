package db

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// TextArray writes ids as a PostgreSQL array; ids hold no character that needs quoting.
func TextArray(ids []string) string {
	if len(ids) == 0 {
		return "{}"
	}
	text, _ := json.Marshal(ids)
	return "{" + string(text[1:len(text)-1]) + "}"
}

// Row runs a query that must give exactly one row.
func Row[T any](ctx context.Context, s *Database, doing, sql string, args ...any) (T, error) {
	var zero T
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return zero, Known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
	if err != nil {
		return zero, Known(err, doing)
	}
	if len(got) != 1 {
		return zero, fmt.Errorf("%s: %d fit: %w", doing, len(got), ErrNotFound)
	}
	return got[0], nil
}

// Values runs a query and collects its only column.
func Values[T any](ctx context.Context, s *Database, doing, sql string, args ...any) ([]T, error) {
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, Known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowTo[T])
	return got, Known(err, doing)
}

// Rows runs a query and collects its rows by position.
func Rows[T any](ctx context.Context, s *Database, doing, sql string, args ...any) ([]T, error) {
	return RowsOf[T](ctx, s.Pool, doing, sql, args...)
}

func RowsOf[T any](ctx context.Context, from *pgxpool.Pool, doing, sql string, args ...any) ([]T, error) {
	rows, err := from.Query(ctx, sql, args...)
	if err != nil {
		return nil, Known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
	return got, Known(err, doing)
}
