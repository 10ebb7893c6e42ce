package connections_test

import (
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/store/connectionstore"
)

func wish(w *apptest.World, at connectionstore.Interface) pairings.Wish {
	return pairings.Wish{SectionID: w.Section("PROP-A").ID, InterfaceID: at.ID}
}
