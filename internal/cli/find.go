package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// find looks among all records of a list for the one with a name, which may be any of
// those that names gives. noun and list tell people what was looked for, and where.
func find[T any](ctx context.Context, c *client.Client, path, noun, list, name string, names func(T) []string) (T, error) {
	var none T
	page, err := client.Get[api.Page[T]](ctx, c, path)
	if err != nil {
		return none, err
	}
	i := slices.IndexFunc(page.Items, func(x T) bool {
		return slices.ContainsFunc(names(x), func(n string) bool { return strings.EqualFold(n, name) })
	})
	if i < 0 {
		return none, fmt.Errorf("%w: there is no %s %q; list them with: kanban %s list", errUsage, noun, name, list)
	}
	return page.Items[i], nil
}

func findConnection(ctx context.Context, c *client.Client, name string) (api.Connection, error) {
	return find(ctx, c, "/connections", "connection", "connections", name, func(x api.Connection) []string { return []string{x.ID, x.Name} })
}

func findCourse(ctx context.Context, c *client.Client, name string) (api.Course, error) {
	return find(ctx, c, "/courses", "course", "courses", name, func(x api.Course) []string { return []string{x.ID, x.Code, x.Title} })
}

func findRule(ctx context.Context, c *client.Client, name string) (api.Rule, error) {
	return find(ctx, c, "/rules", "rule", "rules", name, func(x api.Rule) []string { return []string{x.ID, x.Name} })
}

func findOffer(ctx context.Context, c *client.Client, name string) (api.Offer, error) {
	return find(ctx, c, "/offers", "offer", "offers", name, func(x api.Offer) []string { return []string{x.ID, x.Name} })
}

func findBadge(ctx context.Context, c *client.Client, name string) (api.Badge, error) {
	return find(ctx, c, "/badges", "badge", "badges", name, func(x api.Badge) []string { return []string{x.ID, x.Name} })
}
