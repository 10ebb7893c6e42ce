package db

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"gorm.io/gorm"
	"gorm.io/gorm/schema"
)

// From is where records are read from and written to: an open database, or a transaction
// on it.
type From interface {
	// Records gives the GORM handle.
	Records(ctx context.Context) *gorm.DB
	// query runs a query on the driver itself.
	query(ctx context.Context, text string, args []any) (pgx.Rows, error)
}

// Exec runs a statement, with arguments $1, $2, …, and gives how many rows it concerned.
func Exec(ctx context.Context, to From, statement string, args ...any) (rows int64, err error) {
	done := raw(ctx, to, statement, args)
	done.Callback().Raw().Execute(done)
	return done.RowsAffected, done.Error
}

// Rows runs a query and gives its rows by name: every column is named after a field of T
// in snake case, and every field has a column. Fields may be slices (arrays in the
// database), and what is tagged serializer:json, or is a map, is read as JSON.
func Rows[T any](ctx context.Context, from From, doing, query string, args ...any) ([]T, error) {
	var list []T
	err := Each(ctx, from, doing, query, args, func(x T) error {
		list = append(list, x)
		return nil
	})
	return list, err
}

// Each does the same and hands out one row after the other, so that few are held at once.
func Each[T any](ctx context.Context, from From, doing, query string, args []any, do func(T) error) error {
	rows, err := raw(ctx, from, query, args).Rows()
	if err != nil {
		return Known(err, doing)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return Known(err, doing)
	}
	return each(rows, columns, doing, column.scanned, do)
}

// EachFast is Each without GORM and database/sql in between, for queries that give thousands of
// rows: it takes half the time for each. Where it is used is counted and measured.
func EachFast[T any](ctx context.Context, from From, doing, query string, args []any, do func(T) error) error {
	rows, err := from.query(ctx, query, args)
	if err != nil {
		return Known(err, doing)
	}
	defer rows.Close()
	columns := make([]string, len(rows.FieldDescriptions()))
	for i, f := range rows.FieldDescriptions() {
		columns[i] = f.Name
	}
	return each(rows, columns, doing, column.driven, do)
}

// cursor are rows, whichever way they come.
type cursor interface {
	Next() bool
	Scan(into ...any) error
	Err() error
}

// each scans rows by the names of their columns; into says what a field is scanned into.
func each[T any](rows cursor, columns []string, doing string, into func(column, reflect.Value) any,
	do func(T) error,
) error {
	order, err := orderOf(reflect.TypeFor[T](), columns)
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	fields := make([]any, len(columns))
	for rows.Next() {
		var x T
		v := reflect.ValueOf(&x).Elem()
		for i, c := range order {
			fields[i] = into(c, v)
		}
		if err := rows.Scan(fields...); err != nil {
			return Known(err, doing)
		}
		if err := do(x); err != nil {
			return err
		}
	}
	return Known(rows.Err(), doing)
}

// Row runs a query that must give exactly one row; ErrNotFound says that none, or several,
// fit.
func Row[T any](ctx context.Context, from From, doing, query string, args ...any) (T, error) {
	list, err := Rows[T](ctx, from, doing, query, args...)
	if err == nil && len(list) != 1 {
		err = fmt.Errorf("%s: %d fit: %w", doing, len(list), ErrNotFound)
	}
	if err != nil {
		var none T
		return none, err
	}
	return list[0], nil
}

// Values runs a query and gives its only column.
func Values[T any](ctx context.Context, from From, doing, query string, args ...any) ([]T, error) {
	list, err := values[T](ctx, from, query, args)
	return list, Known(err, doing)
}

func values[T any](ctx context.Context, from From, query string, args []any) (list []T, err error) {
	rows, err := raw(ctx, from, query, args).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	scan := scannerOf(reflect.TypeFor[T](), false)
	for rows.Next() {
		var x T
		if err := rows.Scan(scan(reflect.ValueOf(&x).Elem())); err != nil {
			return nil, err
		}
		list = append(list, x)
	}
	return list, rows.Err()
}

// Into reads one value; ErrNotFound says that there is no row. Of several rows it takes the
// first.
func Into[T any](ctx context.Context, from From, into *T, query string, args ...any) error {
	list, err := values[T](ctx, from, query, args)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err == nil {
		*into = list[0]
	}
	return err
}

// raw makes a GORM statement of what is written for PostgreSQL: nothing in the text stands
// for an argument but $1, $2, …
func raw(ctx context.Context, from From, text string, args []any) *gorm.DB {
	statement := from.Records(ctx).Raw(text)
	statement.Statement.Vars = args
	return statement
}

// column is a field of a record that a column is read into.
type column struct {
	index []int
	into  func(reflect.Value) any
}

// scanned is what database/sql scans into a field of a record.
func (c column) scanned(record reflect.Value) any { return c.into(record.FieldByIndex(c.index)) }

// driven is what the driver scans into it, which knows arrays and JSON by itself.
func (c column) driven(record reflect.Value) any {
	return record.FieldByIndex(c.index).Addr().Interface()
}

// orders are the fields of types in the order of columns that were read before.
var orders sync.Map // of [2]any{type, names of columns} to []column

func orderOf(t reflect.Type, columns []string) ([]column, error) {
	key := [2]any{t, strings.Join(columns, ",")}
	if order, ok := orders.Load(key); ok {
		return order.([]column), nil
	}
	fields := map[string]column{}
	addFields(t, nil, fields)
	order := make([]column, len(columns))
	for i, name := range columns {
		f, ok := fields[name]
		if !ok {
			return nil, fmt.Errorf("no field of %s takes column %d, %q: %s", t, i+1, name, remaining(fields))
		}
		order[i] = f
		delete(fields, name)
	}
	if len(fields) > 0 {
		return nil, fmt.Errorf("no column fills %s of %s", remaining(fields), t)
	}
	orders.Store(key, order)
	return order, nil
}

func remaining(fields map[string]column) string {
	var names []string
	for name := range fields {
		names = append(names, name)
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func addFields(t reflect.Type, above []int, fields map[string]column) {
	for i := range t.NumField() {
		f := t.Field(i)
		index := append(slices.Clone(above), i)
		tag := f.Tag.Get("gorm")
		switch {
		case f.Anonymous || tag == "embedded":
			addFields(f.Type, index, fields)
		case tag == "-" || !f.IsExported():
		default:
			fields[schema.NamingStrategy{}.ColumnName("", f.Name)] = column{
				index,
				scannerOf(f.Type, strings.Contains(tag, "serializer:json")),
			}
		}
	}
}

// arrays reads PostgreSQL's arrays. A map is not safe for concurrent use while it learns
// types, so each reader takes one.
var arrays = sync.Pool{New: func() any { return pgtype.NewMap() }}

// scannerOf tells how values of a type are read.
func scannerOf(t reflect.Type, asJSON bool) func(reflect.Value) any {
	scanner := reflect.TypeFor[sql.Scanner]()
	switch {
	case t == reflect.TypeFor[json.RawMessage](), t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Uint8 &&
		!asJSON:
		return func(v reflect.Value) any {
			return (*textBytes)(v.Addr().Convert(reflect.TypeFor[*[]byte]()).Interface().(*[]byte))
		}
	case !asJSON && (reflect.PointerTo(t).Implements(scanner) || t == reflect.TypeFor[time.Time]()):
		return func(v reflect.Value) any { return v.Addr().Interface() }
	case asJSON, t.Kind() == reflect.Map, t.Kind() == reflect.Struct:
		return func(v reflect.Value) any { return inJSON{v.Addr().Interface()} }
	case t.Kind() == reflect.Slice:
		return func(v reflect.Value) any { return inArray{v.Addr().Interface()} }
	}
	return func(v reflect.Value) any { return v.Addr().Interface() }
}

// inJSON reads a value that is kept as JSON.
type inJSON struct{ into any }

// Scan implements sql.Scanner.
func (j inJSON) Scan(from any) error {
	switch text := from.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(text, j.into)
	case string:
		return json.Unmarshal([]byte(text), j.into)
	}
	return fmt.Errorf("%T is no JSON", from)
}

// inArray reads an array.
type inArray struct{ into any }

// Scan implements sql.Scanner.
func (a inArray) Scan(from any) error {
	m := arrays.Get().(*pgtype.Map)
	defer arrays.Put(m)
	return m.SQLScanner(a.into).Scan(from)
}

// textBytes reads text or bytes.
type textBytes []byte

// Scan implements sql.Scanner.
func (b *textBytes) Scan(from any) error {
	switch text := from.(type) {
	case nil:
		*b = nil
	case []byte:
		*b = slices.Clone(text)
	case string:
		*b = []byte(text)
	default:
		return fmt.Errorf("%T is no text", from)
	}
	return nil
}

// TextArray writes ids as a PostgreSQL array; ids hold no character that needs quoting.
func TextArray(ids []string) string {
	if len(ids) == 0 {
		return "{}"
	}
	text, _ := json.Marshal(ids)
	return "{" + string(text[1:len(text)-1]) + "}"
}

// Map runs a query whose columns are called key and value.
func Map[K comparable, V any](ctx context.Context, from From, doing, query string, args ...any) (map[K]V, error) {
	type row struct {
		Key   K
		Value V
	}
	out := map[K]V{}
	err := Each(ctx, from, doing, query, args, func(r row) error {
		out[r.Key] = r.Value
		return nil
	})
	return out, err
}

// OrNil is a time, or nil for the zero one, as columns have none.
func OrNil(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}

// Quoted writes the name of a table or column for a statement.
func Quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// Quarter is the quarter of an hour of a column of times: days and months of every time zone are made of whole ones,
// so that what is counted by quarters can be added up by the days of any.
func Quarter(column string) string {
	return `to_timestamp(floor(extract(epoch FROM ` + column + `) / 900) * 900)`
}

// NoTest says in SQL of a person's id, which may be null, that it is no test learner's whose proof is under way.
func NoTest(person string) string {
	return `(` + person + ` IS NULL OR ` + person + ` NOT IN (SELECT person_id FROM proofs WHERE ended_at IS NULL))`
}
