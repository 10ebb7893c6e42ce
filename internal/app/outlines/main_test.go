package outlines_test

import (
	"testing"

	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }
