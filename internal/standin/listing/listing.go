// Package listing serves the collections of the stand-ins that speak OneRoster, page by page.
package listing

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"

	"kanban/internal/wire/oneroster"
)

// most is how many records a page has at most: a server may give fewer than asked.
const most = 50

// changedSince is the one filter that is understood.
var changedSince = regexp.MustCompile(`^dateLastModified>'([^']+)'$`)

// Serve answers with a page of records (OneRoster 1.2 REST binding, "limit", "offset", "filter"),
// with X-Total-Count and Link. changed says when a record was changed last, shown how those of
// the page are written.
func Serve[T any](w http.ResponseWriter, r *http.Request, wrapper string, items []T, changed func(T) string,
	shown func([]T) any,
) {
	query := r.URL.Query()
	limit, offset := number(query, "limit", 100), number(query, "offset", 0)
	if limit < 1 || offset < 0 {
		Fail(w, http.StatusBadRequest, "invaliddata", "limit and offset must be positive numbers.")
		return
	}
	if filter := query.Get("filter"); filter != "" {
		since := changedSince.FindStringSubmatch(filter)
		if since == nil {
			Fail(w, http.StatusBadRequest, "invalid_filter_field", "Only dateLastModified>'…' is understood.")
			return
		}
		items = slices.DeleteFunc(slices.Clone(items), func(x T) bool { return changed(x) <= since[1] })
	}
	limit = min(limit, most)
	from, to := min(offset, len(items)), min(offset+limit, len(items))
	if to < len(items) {
		at := func(offset int) string {
			query.Set("limit", strconv.Itoa(limit))
			query.Set("offset", strconv.Itoa(offset))
			return fmt.Sprintf("http://%s%s?%s", r.Host, r.URL.Path, query.Encode())
		}
		w.Header().Set("Link", fmt.Sprintf(`<%s>; rel="next", <%s>; rel="first"`, at(to), at(0)))
	}
	w.Header().Set("X-Total-Count", strconv.Itoa(len(items)))
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{wrapper: shown(append([]T{}, items[from:to]...))})
}

// Fail answers with the standard's error body.
func Fail(w http.ResponseWriter, status int, minor, text string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(oneroster.NewStatusInfo(minor, text))
}

// number is a parameter that is one; -1 for one that is none.
func number(query url.Values, name string, fallback int) int {
	text := query.Get(name)
	if text == "" {
		return fallback
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return -1
	}
	return n
}
