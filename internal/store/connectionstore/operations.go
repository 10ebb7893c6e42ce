package connectionstore

import (
	"context"
	"encoding/json"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
)

type operationRow struct {
	ConnectionID string
	Name         string
	Title        string
	Method       string
	Path         string
	Fields       []rule.OperationField `gorm:"serializer:json"`
	Success      string
	ProofPath    string
	Proof        string
	Undo         string
}

func (operationRow) TableName() string { return "operations" }

func (o operationRow) operation() rule.Operation {
	return rule.Operation{
		Name: o.Name, Title: o.Title, Method: o.Method, Path: o.Path, Fields: o.Fields,
		Success: o.Success, ProofPath: o.ProofPath, Proof: o.Proof, Undo: o.Undo,
	}
}

// Operations lists those of a connection, ordered by name.
func Operations(ctx context.Context, from db.From, connectionID string) ([]rule.Operation, error) {
	var rows []operationRow
	err := from.Records(ctx).Where("connection_id = ?", connectionID).Order("name").Find(&rows).Error
	all := make([]rule.Operation, len(rows))
	for i, r := range rows {
		all[i] = r.operation()
	}
	return all, db.Known(err, "listing operations")
}

// FindOperation finds one of a connection by name.
func FindOperation(ctx context.Context, from db.From, connectionID, name string) (rule.Operation, error) {
	var row operationRow
	err := from.Records(ctx).Where("connection_id = ? AND name = ?", connectionID, name).First(&row).Error
	return row.operation(), db.Known(err, "finding the operation")
}

// KeepOperation makes or replaces an operation of a connection.
func KeepOperation(ctx context.Context, tx *db.Tx, connectionID string, o rule.Operation) error {
	fields, err := json.Marshal(o.Fields)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO operations (connection_id, name, title, method, path, fields, success,
		undo, proof_path, proof) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		ON CONFLICT (connection_id, name) DO UPDATE SET title = excluded.title, method = excluded.method,
			path = excluded.path, fields = excluded.fields, success = excluded.success, undo = excluded.undo,
			proof_path = excluded.proof_path, proof = excluded.proof`,
		connectionID, o.Name, o.Title, o.Method, o.Path, string(fields), o.Success, o.Undo, o.ProofPath, o.Proof)
	return db.Known(err, "keeping the operation")
}

// DropOperation removes an operation of a connection.
func DropOperation(ctx context.Context, tx *db.Tx, connectionID, name string) error {
	changed, err := db.Exec(ctx, tx, `DELETE FROM operations WHERE connection_id = $1 AND name = $2`, connectionID,
		name)
	if err == nil && changed == 0 {
		return db.ErrNotFound
	}
	return db.Known(err, "removing the operation")
}
