package connecting_test

import (
	"kanban/internal/app/pairing"
	"kanban/internal/apptest"
	"kanban/internal/store"
)

func wish(w *apptest.World, at store.Connection) pairing.Wish {
	return pairing.Wish{SectionID: w.Section("PROP-A").ID, ConnectionID: at.ID}
}
