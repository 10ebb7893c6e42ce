package xapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"reflect"
	"strconv"
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
	if exact(a, &m) != nil || exact(b, &n) != nil {
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

// exact reads JSON with its numbers as they stand there.
func exact(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}

// mostExponent bounds the exponents of numbers: those of a float64 (IEEE 754).
const mostExponent = 308

// numbers reports a number that nobody can work with.
func numbers(text []byte) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	for {
		token, err := d.Token()
		if err != nil {
			return nil //nolint:nilerr // its form is somebody else's matter
		}
		n, ok := token.(json.Number)
		if !ok {
			continue
		}
		digits, exponent, _ := strings.Cut(strings.ToLower(string(n)), "e")
		if e, err := strconv.Atoi(exponent); exponent != "" &&
			(err != nil || e > mostExponent || e < -mostExponent) || len(digits) > 2*mostExponent {
			shown := string(n)
			return fmt.Errorf("%w: the number %s is beyond what can be used: at most %d digits and an exponent of %d",
				ErrStatement, shown[:min(len(shown), 30)], 2*mostExponent, mostExponent)
		}
	}
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
	case json.Number:
		if n, ok := new(big.Rat).SetString(string(x)); ok { // 1e2 is 100
			return n.RatString()
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
