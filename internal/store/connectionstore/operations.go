package connectionstore

import (
	"context"
	"encoding/json"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
)

type operationRow struct {
	InterfaceID string
	Name        string
	Title       string
	Method      string
	Path        string
	Fields      []rule.OperationField `gorm:"serializer:json"`
	Success     string
	ProofPath   string
	Proof       string
	Undo        string
}

func (operationRow) TableName() string { return "operations" }

func (o operationRow) operation() rule.Operation {
	return rule.Operation{
		Name: o.Name, Title: o.Title, Method: o.Method, Path: o.Path, Fields: o.Fields,
		Success: o.Success, ProofPath: o.ProofPath, Proof: o.Proof, Undo: o.Undo,
	}
}

// Operations lists those of an interface, ordered by name.
func Operations(ctx context.Context, from db.From, interfaceID string) ([]rule.Operation, error) {
	var rows []operationRow
	err := from.Records(ctx).Where("interface_id = ?", interfaceID).Order("name").Find(&rows).Error
	all := make([]rule.Operation, len(rows))
	for i, r := range rows {
		all[i] = r.operation()
	}
	return all, db.Known(err, "listing operations")
}

// FindOperation finds one of an interface by name.
func FindOperation(ctx context.Context, from db.From, interfaceID, name string) (rule.Operation, error) {
	var row operationRow
	err := from.Records(ctx).Where("interface_id = ? AND name = ?", interfaceID, name).First(&row).Error
	return row.operation(), db.Known(err, "finding the operation")
}

// KeepOperation makes or replaces an operation of an interface.
func KeepOperation(ctx context.Context, tx *db.Tx, interfaceID string, o rule.Operation) error {
	fields, err := json.Marshal(o.Fields)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO operations (interface_id, name, title, method, path, fields, success,
		undo, proof_path, proof) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		ON CONFLICT (interface_id, name) DO UPDATE SET title = excluded.title, method = excluded.method,
			path = excluded.path, fields = excluded.fields, success = excluded.success, undo = excluded.undo,
			proof_path = excluded.proof_path, proof = excluded.proof`,
		interfaceID, o.Name, o.Title, o.Method, o.Path, string(fields), o.Success, o.Undo, o.ProofPath, o.Proof)
	return db.Known(err, "keeping the operation")
}

// DropOperation removes an operation of an interface.
func DropOperation(ctx context.Context, tx *db.Tx, interfaceID, name string) error {
	changed, err := db.Exec(ctx, tx, `DELETE FROM operations WHERE interface_id = $1 AND name = $2`, interfaceID,
		name)
	if err == nil && changed == 0 {
		return db.ErrNotFound
	}
	return db.Known(err, "removing the operation")
}
