// Package scorestore keeps what gradebooks said when they were read, the links through which scores are carried,
// what was carried, and what runs did about it.
package scorestore

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"kanban/internal/store/db"
)

// Record is a record of a gradebook as it came: its values are named as the columns of the standard's CSV files.
type Record struct {
	RemoteID string
	Class    string            // of an assignment
	Item     string            // of a score: the assignment's id
	Values   map[string]string // those that are not empty
	Sum      int64             // equal for equal records
	GoneAt   *time.Time        // since when whole reads do not see it any more
}

// Unread is a record that could not be understood.
type Unread struct {
	Collection string `json:"collection"`
	Position   int    `json:"position"`
	Problem    string `json:"problem"`
}

// Read says when a gradebook was read.
type Read struct {
	InterfaceID string
	ReadNo      int64
	ReadAt      time.Time // when the last read that came to its end began
	WholeAt     time.Time // the same of one that asked for everything
	Unread      []Unread  `gorm:"serializer:json"` // the first of them
	UnreadCount int
}

// TableName names the table for GORM.
func (Read) TableName() string { return "gradebook_reads" }

// FindRead finds when a gradebook was read; the zero value says never.
func FindRead(ctx context.Context, from db.From, interfaceID string) (r Read, err error) {
	list, err := db.Rows[Read](ctx, from, "finding when the gradebook was read", `SELECT interface_id::text, read_no,
		read_at, whole_at, unread, unread_count FROM gradebook_reads WHERE interface_id = $1`, interfaceID)
	if err == nil && len(list) > 0 {
		r = list[0]
	}
	return r, err
}

// KeepRecords keeps records that a read saw; later ones of one id count.
func KeepRecords(ctx context.Context, to db.From, interfaceID, collection string, readNo int64,
	records []Record,
) error {
	by := make(map[string]int, len(records))
	var ids, classes, items, texts []string
	var sums []int64
	for _, r := range records {
		text, err := json.Marshal(r.Values)
		if err != nil {
			return err
		}
		i, again := by[r.RemoteID]
		if !again {
			i = len(ids)
			by[r.RemoteID] = i
			ids, classes, items = append(ids, r.RemoteID), append(classes, ""), append(items, "")
			texts, sums = append(texts, ""), append(sums, 0)
		}
		classes[i], items[i], texts[i], sums[i] = r.Class, r.Item, string(text), r.Sum
	}
	_, err := db.Exec(ctx, to, `INSERT INTO gradebook_records AS had (interface_id, collection, remote_id, class, item,
			record, sum, read_no)
		SELECT $1, $2, x.id, x.class, x.item, x.record::jsonb, x.sum, $3 FROM unnest($4::text[], $5::text[],
			$6::text[], $7::text[], $8::bigint[]) AS x (id, class, item, record, sum)
		ON CONFLICT (interface_id, collection, remote_id) DO UPDATE SET read_no = excluded.read_no, gone_at = NULL,
			class = excluded.class, item = excluded.item, sum = excluded.sum,
			record = CASE WHEN had.sum = excluded.sum THEN had.record ELSE excluded.record END`,
		interfaceID, collection, readNo, ids, classes, items, texts, sums)
	return db.Known(err, "keeping what the gradebook said")
}

// DropRecord notes that a record is not there any more.
func DropRecord(ctx context.Context, to db.From, interfaceID, collection, id string) error {
	_, err := db.Exec(ctx, to, `UPDATE gradebook_records SET gone_at = now() WHERE interface_id = $1
		AND collection = $2 AND remote_id = $3 AND gone_at IS NULL`, interfaceID, collection, id)
	return db.Known(err, "keeping what the gradebook said")
}

// Small reports whether a gradebook has at most so many records, so that it is quickly read whole.
func Small(ctx context.Context, from db.From, interfaceID string, most int) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT count(*) <= $2 FROM (SELECT 1 FROM gradebook_records
		WHERE interface_id = $1 LIMIT $2 + 1) x`, interfaceID, most)
	return yes, db.Known(err, "looking how large the gradebook is")
}

// EndRead notes that a read came to its end. What it has not seen of the collections that it read whole is gone from
// then on; whole says that it asked for everything.
func EndRead(ctx context.Context, tx *db.Tx, r Read, whole bool, collections []string) error {
	text, err := json.Marshal(r.Unread)
	if err != nil {
		return err
	}
	if len(collections) > 0 {
		if _, err := db.Exec(ctx, tx, `UPDATE gradebook_records SET gone_at = $3 WHERE interface_id = $1
			AND collection = ANY ($4::text[]) AND read_no <> $2 AND gone_at IS NULL`, r.InterfaceID, r.ReadNo, r.ReadAt,
			collections); err != nil {
			return db.Known(err, "ending the read of the gradebook")
		}
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO gradebook_reads AS had (interface_id, read_no, read_at, whole_at, unread,
			unread_count)
		VALUES ($1, $2, $3::timestamptz, $3::timestamptz, $5, $6) ON CONFLICT (interface_id) DO UPDATE SET
			read_no = excluded.read_no, read_at = excluded.read_at, whole_at = CASE WHEN $4 THEN excluded.read_at
			ELSE had.whole_at END, unread = CASE WHEN $4 OR had.unread_count = 0 THEN excluded.unread
			ELSE had.unread END, unread_count = CASE WHEN $4 THEN excluded.unread_count
			ELSE greatest(had.unread_count, excluded.unread_count) END`,
		r.InterfaceID, r.ReadNo, r.ReadAt, whole, string(text), r.UnreadCount)
	return db.Known(err, "ending the read of the gradebook")
}

// Records gives the records of a collection, ordered by id; class and items narrow them when they are given.
func Records(ctx context.Context, from db.From, interfaceID, collection string, classes, items []string) (
	[]Record, error,
) {
	where := []string{"interface_id = $1", "collection = $2"}
	args := []any{interfaceID, collection}
	switch {
	case classes != nil:
		where, args = append(where, "class = ANY ($3::text[])"), append(args, classes)
	case items != nil:
		where, args = append(where, "item = ANY ($3::text[])"), append(args, items)
	}
	type row struct {
		RemoteID, Class, Item string
		Record                map[string]string
		GoneAt                *time.Time
	}
	var list []Record
	err := db.EachFast(ctx, from, "reading the gradebook", `SELECT remote_id, class, item, record, gone_at
		FROM gradebook_records WHERE `+strings.Join(where, " AND ")+` ORDER BY remote_id`, args, func(r row) error {
		list = append(list, Record{
			RemoteID: r.RemoteID, Class: r.Class, Item: r.Item, Values: r.Record,
			GoneAt: r.GoneAt,
		})
		return nil
	})
	return list, err
}

// Class is a class of a gradebook with how much there is in it.
type Class struct {
	ID          string
	Title       string // of the section of this id, empty when there is none
	Assignments int
	Scores      int
}

// Classes lists the classes that the assignments of a gradebook are of.
func Classes(ctx context.Context, from db.From, interfaceID string) ([]Class, error) {
	return db.Rows[Class](ctx, from, "listing the gradebook's classes", `
		SELECT i.class AS id, coalesce((SELECT min(s.title) FROM sections s WHERE s.sourced_id = i.class
			AND s.gone_at IS NULL), '') AS title, count(*)::int AS assignments, coalesce(sum(r.n), 0)::int AS scores
		FROM gradebook_records i LEFT JOIN LATERAL (SELECT count(*) AS n FROM gradebook_records x
			WHERE x.interface_id = i.interface_id AND x.item = i.remote_id AND x.gone_at IS NULL) r ON true
		WHERE i.interface_id = $1 AND i.collection = 'lineItems' AND i.gone_at IS NULL
		GROUP BY i.class ORDER BY i.class`, interfaceID)
}

// Handed is a record that waits to be put into a gradebook by a file.
type Handed struct {
	Collection, RemoteID, Item, Student string
	Record                              map[string]string
}

// HandOver keeps records for the next package; later ones of one id count.
func HandOver(ctx context.Context, to db.From, interfaceID string, h Handed) error {
	text, err := json.Marshal(h.Record)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, to, `INSERT INTO gradebook_handed (interface_id, collection, remote_id, item, student, record)
		VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (interface_id, collection, remote_id) DO UPDATE SET
		item = excluded.item, student = excluded.student, record = excluded.record, handed_at = now()`,
		interfaceID, h.Collection, h.RemoteID, h.Item, h.Student, string(text))
	return db.Known(err, "keeping what is handed over")
}

// HandedOver lists what waits to be put into a gradebook by a file.
func HandedOver(ctx context.Context, from db.From, interfaceID string) ([]Handed, error) {
	return db.Rows[Handed](ctx, from, "finding what is handed over", `SELECT collection, remote_id, item, student, record
		FROM gradebook_handed WHERE interface_id = $1 ORDER BY collection, remote_id`, interfaceID)
}

// Prove forgets what was handed over and is in the gradebook by what a read said, and what was to be deleted and is
// not there any more, which is known of collections that it said whole. What was to be deleted and changed since then
// is not to be deleted any more.
func Prove(ctx context.Context, tx *db.Tx, r Read, whole []string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM gradebook_handed h USING (SELECT h.collection, h.remote_id,
			h.record->>'status' = 'tobedeleted' AS deletes, r.record FROM gradebook_handed h
			LEFT JOIN gradebook_records r ON r.interface_id = h.interface_id AND r.collection = h.collection
				AND r.remote_id = h.remote_id AND r.read_no = $2
			WHERE h.interface_id = $1) x
		WHERE h.interface_id = $1 AND x.collection = h.collection AND x.remote_id = h.remote_id AND CASE
			WHEN x.deletes IS NOT TRUE THEN x.record IS NOT NULL
			WHEN x.record IS NULL THEN h.collection = ANY ($3::text[])
			ELSE x.record->>'status' = 'tobedeleted'
				OR x.record->>'dateLastModified' > h.record->>'dateLastModified' END`,
		r.InterfaceID, r.ReadNo, whole)
	return db.Known(err, "noting what has arrived")
}
