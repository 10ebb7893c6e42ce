package rule

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// MappingNames are the expressions of a service that reports events, in the order in
// which people think about them: whom an event is about, whether it starts or ends
// their access to something, to what, by which order, what they are called, and whether
// it says that scores are final.
var MappingNames = []string{"person", "starts", "ends", "offer", "order", "buyerName", "scores"}

// Mapped is what a reported event says: about somebody's access, or that scores are final.
type Mapped struct {
	Starts, Ends, Scores            bool
	Person, Offer, Order, BuyerName string
	Problems                        map[string]string // by expression; one that cannot be worked out says nothing
}

// mostValue is how long what a mapping gives may be, in bytes.
const mostValue = 500

// Read works out what a reported event says by the expressions of its service.
func (x *Expressions) Read(mapping map[string]string, event map[string]any) (out Mapped) {
	out.Problems = map[string]string{}
	values := Values{"event": event}
	holds := func(name string) bool {
		if mapping[name] == "" {
			return false
		}
		yes, err := x.Holds(mapping[name], values)
		if err != nil {
			out.Problems[name] = err.Error()
		}
		return err == nil && yes
	}
	value := func(name string) string {
		if mapping[name] == "" {
			return ""
		}
		v, err := x.Value(mapping[name], values)
		text := ""
		switch v.(type) {
		case nil:
		case map[string]any, []any:
			err = errors.New("it gives several values; name one of them")
		default:
			text = strings.TrimSpace(fmt.Sprint(v))
		}
		if n := len(text); n > mostValue {
			err = fmt.Errorf("it gives %d bytes, at most %d can be used", n, mostValue)
		}
		if err != nil {
			out.Problems[name] = err.Error()
			return ""
		}
		return text
	}
	out.Starts, out.Ends, out.Scores = holds("starts"), holds("ends"), holds("scores")
	out.Person, out.Offer, out.Order, out.BuyerName = value("person"), value("offer"), value("order"),
		value("buyerName")
	return out
}

// CheckMapping reports why a text cannot be one of the expressions of a service that
// reports events.
func (x *Expressions) CheckMapping(name, text string) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	check := x.CheckValue
	if name == "starts" || name == "ends" || name == "scores" {
		check = x.CheckCondition
	}
	if err := check(text); err != nil {
		return err
	}
	return x.CheckNames(text, ServiceReported)
}

// EventValue is one value of an event, as an expression names it.
type EventValue struct {
	Path  string `json:"path" doc:"As an expression names it, such as event.data.email"`
	Value string `json:"value"`
}

var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// mostPaths bounds how many values of an event are listed.
const mostPaths = 200

// EventValues lists the values of a reported event as an expression names them.
func EventValues(data map[string]any) (list []EventValue) {
	var walk func(at string, v any)
	walk = func(at string, v any) {
		if len(list) >= mostPaths {
			return
		}
		switch v := v.(type) {
		case map[string]any:
			for _, name := range slices.Sorted(maps.Keys(v)) {
				if plainName.MatchString(name) {
					walk(at+"."+name, v[name])
				} else {
					walk(fmt.Sprintf("%s[%q]", at, name), v[name])
				}
			}
		case []any:
			for i, x := range v {
				walk(fmt.Sprintf("%s[%d]", at, i), x)
			}
		case nil:
			list = append(list, EventValue{at, "null"})
		default:
			text := fmt.Sprint(v)
			if r := []rune(text); len(r) > 120 {
				text = string(r[:120]) + " …"
			}
			list = append(list, EventValue{at, text})
		}
	}
	for _, name := range []string{"reported", "subject", "source", "data"} {
		if v, there := data[name]; there {
			walk("event."+name, v)
		}
	}
	return list
}
