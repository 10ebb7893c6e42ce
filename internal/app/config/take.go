package config

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/wire/config"
)

// faulty is the error of an item of which something is wrong.
type faulty []config.Fault

func (f faulty) Error() string {
	var lines []string
	for _, x := range f {
		lines = append(lines, x.Error())
	}
	return strings.Join(lines, "\n")
}

// waits is the error of an item that names what no register has yet.
type waits []string

func (w waits) Error() string { return strings.Join(w, "; ") }

// refs looks up what an item names, and gathers what is wrong with it.
type refs struct {
	book   *names
	item   config.Item
	faults faulty
	waits  waits
}

func (r *refs) find(of list, path, noun, listed, name string) string {
	if name == "" {
		return ""
	}
	found := of.find(name)
	switch len(found) {
	case 0:
		r.faults = append(r.faults, r.item.Fault(path, "there is no %s %q; see which there are: kanban %s", noun, name, listed))
		return ""
	case 1:
		return found[0].id
	}
	r.faults = append(r.faults, r.item.Fault(path, "%s", of.several(noun, name, found)))
	return ""
}

// later is find for what a register has: what is not there may come when it is read.
func (r *refs) later(of list, path, noun, name string) string {
	if name != "" && len(of.find(name)) == 0 {
		r.waits = append(r.waits, fmt.Sprintf("there is no %s %q", noun, name))
		return ""
	}
	return r.find(of, path, noun, noun+"s list", name)
}

func (r *refs) viaInterface(path, name string) string {
	return r.find(r.book.interfaces, path, "interface", "interfaces list", name)
}

// badge waits for one that waits itself.
func (r *refs) badge(path, name string) string {
	if len(r.book.badges.find(name)) == 0 && r.book.waiting[keyOf(config.Badges, name)] {
		r.waits = append(r.waits, fmt.Sprintf("the badge %q waits too", name))
		return ""
	}
	return r.find(r.book.badges, path, "badge", "badges list", name)
}

func (r *refs) course(path, name string) string { return r.later(r.book.courses, path, "course", name) }

func (r *refs) section(path, name string) string {
	return r.later(r.book.sections, path, "section", name)
}

// err is what is wrong, nil when everything was found.
func (r *refs) err() error {
	switch {
	case len(r.faults) > 0:
		return r.faults
	case len(r.waits) > 0:
		return r.waits
	}
	return nil
}

// taken is what became of one item.
type taken struct {
	item  config.Item
	name  string // as it is exported, where that is another one than in the file
	notes []string
	waits string // what it waits for, empty when it came in
}

// key is by what it is found in an export.
func (t *taken) key() key { return keyOf(t.item.Kind, cmp.Or(t.name, t.item.Name)) }

// makesNames are the kinds of things that others name.
var makesNames = map[config.Kind]bool{config.Connections: true, config.Issuers: true, config.Badges: true}

// take takes items in, each undone by itself when something is wrong with it, and says everything that
// is wrong.
func (w *work) take(ctx context.Context, tx *db.Tx, items []config.Item) (done []taken, faults faulty, err error) {
	for _, item := range items {
		t := taken{item: item}
		err := tx.Nested(ctx, func() error { return w.one(ctx, item, &t) })
		var wrong faulty
		var waiting waits
		refused, is := refusal.As(err)
		w.stale = w.stale || makesNames[item.Kind]
		switch {
		case err == nil:
		case errors.As(err, &wrong):
			faults = append(faults, wrong...)
		case errors.As(err, &waiting):
			t.waits = waiting.Error()
			if w.names != nil {
				w.names.waiting[keyOf(item.Kind, item.Name)] = true
			}
		case is:
			faults = append(faults, item.Fault(inFiles(refused.Field), "%s", refused.Detail))
		case errors.Is(err, db.ErrStale), errors.Is(err, db.ErrTaken), errors.Is(err, db.ErrUnstorable):
			faults = append(faults, item.Fault("", "%v", err))
		default:
			return nil, nil, err
		}
		done = append(done, t)
	}
	return done, faults, nil
}

// called are the fields of use cases that have another name in files.
var called = strings.NewReplacer("interfaceId", "interface", "badgeId", "badge", "sectionIds", "sections", "sectionId",
	"section", "courseId", "course", "termRule", "term", "platformId", "platform", "issuerId", "issuer")

func inFiles(field string) string { return called.Replace(field) }

// one takes one item in.
func (w *work) one(ctx context.Context, item config.Item, t *taken) error {
	switch item.Kind {
	case config.Connections:
		return with(item, func(x config.Connection) error { return w.takeConnection(ctx, x, t) })
	case config.MatchingKind:
		return with(item, func(x config.Matching) error { return w.takeMatching(ctx, x, t) })
	case config.Mappings:
		return with(item, func(x config.Mapping) error { return w.takeMapping(ctx, x, t) })
	case config.Templates:
		return with(item, func(x []config.Template) error { return w.takeTemplates(ctx, x) })
	case config.ScoreTemplates:
		return with(item, func(x []config.ScoreTemplate) error { return w.takeScoreTemplates(ctx, x, t) })
	case config.HiddenSections:
		return with(item, func(x []hidden) error { return w.Pairings.SetHidingRules(ctx, w.who, x) })
	case config.Issuers:
		return with(item, func(x config.Issuer) error { return w.takeIssuer(ctx, x) })
	case config.Badges:
		return with(item, func(x config.Badge) error { return w.takeBadge(ctx, x, t) })
	case config.Outlines:
		return with(item, func(x config.Outline) error { return w.takeOutline(ctx, x, t) })
	case config.Offers:
		return with(item, func(x config.Offer) error { return w.takeOffer(ctx, x, t) })
	case config.Rules:
		return with(item, func(x config.Rule) error { return w.takeRule(ctx, x, t) })
	case config.StagePlans:
		return with(item, func(x config.StagePlan) error { return w.takeStagePlan(ctx, x, t) })
	case config.SettingsKind:
		return with(item, func(x config.Settings) error { return w.takeSettings(ctx, x) })
	}
	return faulty{item.Fault("", "%s cannot be taken in", item.Kind)}
}

func with[T any](item config.Item, do func(T) error) error {
	var x T
	if err := json.Unmarshal(item.Body, &x); err != nil {
		return faulty{item.Fault("", "%v", err)}
	}
	return do(x)
}

// refs begins to look up what an item names.
func (w *work) refs(ctx context.Context, t *taken) (*refs, error) {
	book, err := w.book(ctx)
	return &refs{book: book, item: t.item}, err
}

func (t *taken) note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(t.notes, text) {
		t.notes = append(t.notes, text)
	}
}

// refusedField refuses a value of an item.
func refusedField(field, format string, args ...any) error {
	return refusal.Invalid(field, format, args...)
}

// at puts a refusal where in an item it belongs, whatever field the use case named.
func at(err error, path string) error {
	refused, is := refusal.As(err)
	if !is {
		return err
	}
	moved := *refused
	moved.Field = path
	return &moved
}

// under puts what is wrong with a part of an item under the part's path.
func under(err error, item config.Item, path string) error {
	var wrong faulty
	if errors.As(err, &wrong) {
		out := make(faulty, len(wrong))
		for i, f := range wrong {
			inner := strings.TrimPrefix(strings.TrimPrefix(f.Path, item.Path()), ".")
			out[i] = item.Fault(path+"."+inner, "%s", f.Detail)
		}
		return out
	}
	refused, is := refusal.As(err)
	if !is {
		return err
	}
	moved := *refused
	moved.Field = strings.TrimSuffix(path+"."+moved.Field, ".")
	return &moved
}
