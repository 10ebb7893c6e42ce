package storetest

import (
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// KeepInterface stores an interface with a connection of its own, of the same name.
func KeepInterface(tx *db.Tx, c *connectionstore.Interface) error {
	c.Connection = connectionstore.Connection{ID: db.NewID(), Name: c.Name, Version: 1}
	c.ConnectionID = c.Connection.ID
	if err := db.Create(tx, &c.Connection, "making the connection"); err != nil {
		return err
	}
	return connectionstore.CreateInterface(tx, c)
}
