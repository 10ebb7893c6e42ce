package xapi

import (
	"encoding/json"
	"reflect"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Same reports whether two statements with one id say the same, so that the second is a
// repetition and no conflict (Communication 2.1.2). What the receiver sets, what only
// describes (displays and definitions), and a timestamp that one of them leaves to the
// receiver do not count; UUIDs and times are the same however they are written.
func Same(a, b json.RawMessage) bool {
	var m, n map[string]any
	if json.Unmarshal(a, &m) != nil || json.Unmarshal(b, &n) != nil {
		return string(a) == string(b)
	}
	for _, x := range []map[string]any{m, n} {
		for _, name := range []string{"id", "authority", "stored", "version"} {
			delete(x, name)
		}
		if m["timestamp"] == nil || n["timestamp"] == nil {
			delete(x, "timestamp")
		}
	}
	return reflect.DeepEqual(essence(m), essence(n))
}

// essence leaves what counts when statements are compared.
func essence(x any) any {
	switch x := x.(type) {
	case map[string]any:
		delete(x, "definition")
		delete(x, "display")
		for name, v := range x {
			x[name] = essence(v)
		}
	case []any:
		for i, v := range x {
			x[i] = essence(v)
		}
	case string:
		if t, err := time.Parse(time.RFC3339Nano, x); err == nil {
			return t.UTC().Format(time.RFC3339Nano)
		}
		if _, err := uuid.Parse(x); err == nil && len(x) == 36 {
			return strings.ToLower(x)
		}
	}
	return x
}
