package scim

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"kanban/internal/wire/call"
)

// mostResources bounds a collection: a service that announces more, or gives pages without end, is
// no directory.
const mostResources = 1_000_000

// page is a ListResponse (RFC 7644 3.4.2) as it is read: what does not say how many there are is
// none.
type page[T any] struct {
	Total     *int   `json:"totalResults"`
	Resources []T    `json:"Resources"`
	Next      string `json:"nextCursor"` // RFC 9865 section 2
}

func (p *page[T]) total() *int { return p.Total }

var noList = broken(http.StatusOK, "the answer is no list: it does not say how many there are", nil)

func (c *Client) page(ctx context.Context, path string, out interface{ total() *int }) error {
	if err := c.do(ctx, http.MethodGet, path, nil, out); err != nil {
		return err
	}
	if n := out.total(); n == nil || *n < 0 {
		return noList
	}
	return nil
}

// mostReadings is how often a collection is read that changes while it is read.
const mostReadings = 3

// list reads a collection page by page, each resource once. A resource slips onto the next page
// when another one comes while the list is read, which hides that one: then it is read anew. A
// service that announces more than it gives is broken.
func list[T any](ctx context.Context, c *Client, path string, query url.Values, id func(T) string) ([]T, error) {
	if query.Get("filter") == "" {
		query.Del("filter")
	}
	offers, _ := c.Offers(ctx)
	query.Set("count", strconv.Itoa(offers.pageSize()))
	once := listOnce[T]
	if offers.byCursor() {
		once = listByCursor[T]
	}
	for reading := 1; ; reading++ {
		all, announced, again, err := once(ctx, c, path, query, id)
		switch {
		case err == nil && len(all) >= announced:
			return all, nil
		case err == nil && again && reading < mostReadings:
			continue
		case err == nil:
			err = broken(http.StatusOK, fmt.Sprintf("the service announced %d and gave %d", announced, len(all)), nil)
		}
		return nil, fmt.Errorf("listing %s: %w", strings.TrimPrefix(path, "/"), err)
	}
}

// listOnce reads until a page brings nothing new. again says that some came more than once.
func listOnce[T any](ctx context.Context, c *Client, path string, query url.Values, id func(T) string) (all []T,
	announced int, again bool, err error,
) {
	seen := map[string]bool{}
	for start, fresh := 1, 1; fresh > 0 && (start == 1 || start <= announced); {
		query.Set("startIndex", strconv.Itoa(start))
		var p page[T]
		if err := c.page(ctx, path+"?"+query.Encode(), &p); err != nil {
			return nil, 0, false, err
		}
		if announced = *p.Total; announced > mostResources {
			return nil, 0, false, broken(http.StatusOK, fmt.Sprintf("the service announced %d; at most %d are read",
				announced, mostResources), nil)
		}
		fresh = 0
		for _, x := range p.Resources {
			key := id(x)
			if key == "" {
				return nil, 0, false, broken(http.StatusOK, "the service lists one without an id", nil)
			}
			if seen[key] {
				again = true
				continue
			}
			seen[key] = true
			all = append(all, x)
			fresh++
		}
		start += len(p.Resources)
	}
	return all, announced, again, nil
}

// listByCursor reads until there is no next cursor (RFC 9865). again says that it is to be read anew: a
// cursor was not taken any more. announced is 0 where the service does not say how many there are.
func listByCursor[T any](ctx context.Context, c *Client, path string, query url.Values, id func(T) string) (all []T,
	announced int, again bool, err error,
) {
	query.Set("cursor", "")
	seen, cursors := map[string]bool{}, map[string]bool{}
	for {
		var p page[T]
		err := c.do(ctx, http.MethodGet, path+"?"+query.Encode(), nil, &p)
		if refused, ok := call.As(err); ok && refused.Status == http.StatusBadRequest && len(cursors) > 0 {
			return all, len(all) + 1, true, nil // invalidCursor, expiredCursor (RFC 9865 section 3)
		}
		if err != nil {
			return nil, 0, false, err
		}
		if p.Total != nil {
			announced = *p.Total
		}
		for _, x := range p.Resources {
			key := id(x)
			if key == "" {
				return nil, 0, false, broken(http.StatusOK, "the service lists one without an id", nil)
			}
			if !seen[key] {
				seen[key] = true
				all = append(all, x)
			}
		}
		switch {
		case announced > mostResources || len(all) > mostResources:
			return nil, 0, false, broken(http.StatusOK, fmt.Sprintf("the service lists more than %d", mostResources), nil)
		case p.Next == "":
			return all, announced, announced > len(all), nil
		case cursors[p.Next]:
			return nil, 0, false, broken(http.StatusOK, "the service gives the same cursor again and again", nil)
		}
		cursors[p.Next] = true
		query.Set("cursor", p.Next)
	}
}
