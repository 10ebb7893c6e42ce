package workspaces

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"kanban/internal/core/roster"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// Step is one person's change at the service.
type Step struct {
	Outcome    roster.Outcome // OutcomeAdd, OutcomeUpdate or OutcomeRemove
	AccountID  string         // empty when an account has to be made
	Want       roster.Wanted
	Deactivate bool // also switch the account off
	Activate   bool // switch the account on first
	Notify     bool // the service may tell the person
	// Join and Quit are groups inside the target, by their refs.
	Join, Quit []string
}

// Ended is told how one step ended: the account's id, or why it failed. It is
// never called twice at a time. Its own error stops everything.
type Ended func(i int, account string, err error) error

// chunk is how many members are put in or taken out with one call.
const chunk = 50

// bulkMost bounds how many accounts are made with one call, whatever the service
// allows.
const bulkMost = 100

func bulkSize(c scim.ServiceProviderConfig) int {
	if !c.Bulk.Supported {
		return 1
	}
	if c.Bulk.MaxOperations == 0 {
		return bulkMost
	}
	return max(min(bulkMost, c.Bulk.MaxOperations), 1)
}

// work is one call of Apply.
type work struct {
	*Workspace
	ref   string
	steps []Step
	ended Ended
	ids   []string // of the accounts, by step

	mu      sync.Mutex
	stopped error
	failed  int // calls in a row that failed for a cause that may pass
}

// patience is how many steps in a row may fail for a passing cause before the
// rest is left: the service is down, not the people wrong.
const patience = 3

// Apply carries out steps: makes and updates accounts, several at a time, puts
// members in and takes them out, many with one call. One person's refusal never
// stops the others. Doing a step again is harmless.
func (w *Workspace) Apply(ctx context.Context, ref string, steps []Step, ended Ended) error {
	x := &work{Workspace: w, ref: ref, steps: steps, ended: ended, ids: make([]string, len(steps))}
	var missing, updates, additions, removals []int
	for i, s := range steps {
		x.ids[i] = s.AccountID
		switch {
		case s.Outcome == roster.OutcomeUpdate:
			updates = append(updates, i)
		case s.Outcome == roster.OutcomeRemove:
			removals = append(removals, i)
		case s.AccountID == "":
			missing = append(missing, i)
		default:
			additions = append(additions, i)
		}
	}
	x.create(ctx, missing)
	updates = x.each(ctx, updates, func(ctx context.Context, i int) error {
		if steps[i].Want == (roster.Wanted{}) {
			return nil // only its groups change
		}
		return w.update(ctx, steps[i])
	})
	for _, i := range missing {
		if x.ids[i] != "" {
			additions = append(additions, i)
		}
	}
	additions = x.activate(ctx, additions)
	additions = x.members(ctx, ref, additions, w.client.AddMembers)
	x.finish(x.regroup(ctx, append(updates, additions...)))
	removals = x.regroup(ctx, removals)
	removals = x.members(ctx, ref, removals, w.client.RemoveMembers)
	x.finish(x.each(ctx, removals, func(ctx context.Context, i int) error {
		if !steps[i].Deactivate {
			return nil
		}
		return w.client.SetActive(ctx, x.ids[i], false)
	}))
	return x.stopped
}

// finish notes that steps are done.
func (x *work) finish(which []int) {
	for _, i := range which {
		x.end(i, nil)
	}
}

// regroup moves accounts between the groups inside the target, and gives the
// steps that can go on.
func (x *work) regroup(ctx context.Context, which []int) []int {
	pass := func(groups func(Step) []string, change change) {
		var order []string
		by := map[string][]int{}
		for _, i := range which {
			for _, g := range groups(x.steps[i]) {
				if by[g] == nil {
					order = append(order, g)
				}
				by[g] = append(by[g], i)
			}
		}
		for _, g := range order {
			part := slices.DeleteFunc(by[g], func(i int) bool { return !slices.Contains(which, i) })
			done := x.members(ctx, g, slices.Clone(part), change)
			which = slices.DeleteFunc(which, func(i int) bool {
				return slices.Contains(part, i) &&
					!slices.Contains(done, i)
			})
		}
	}
	pass(func(s Step) []string { return s.Join }, x.client.AddMembers)
	pass(func(s Step) []string { return s.Quit }, x.client.RemoveMembers)
	return which
}

// activate switches accounts on where that is asked for, and gives the steps
// that can go on.
func (x *work) activate(ctx context.Context, which []int) []int {
	return slices.DeleteFunc(which, func(i int) bool {
		if !x.steps[i].Activate || x.stop() {
			return false
		}
		err := x.client.SetActive(ctx, x.ids[i], true)
		if err != nil {
			x.end(i, err)
		}
		return err != nil
	})
}

// end notes how a step ended.
func (x *work) end(i int, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.stopped != nil {
		if err == nil { // it was carried out, so it is noted, whatever became of the others
			if told := x.ended(i, x.ids[i], nil); told != nil {
				x.stopped = errors.Join(x.stopped, told)
			}
		}
		return
	}
	p, known := call.As(err)
	switch {
	case err != nil && !known:
		x.stopped = err
		return
	case known && p.Passing():
		if x.failed++; x.failed >= patience {
			x.stopped = err
		}
	case known && p.Kind != call.Refused && p.Kind != call.NotFound:
		x.stopped = err // the credential or the service, not the person
	default:
		x.failed = 0
	}
	if told := x.ended(i, x.ids[i], err); told != nil {
		x.stopped = told
	}
}

func (x *work) stop() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.stopped != nil
}

// each does something for each step, several at a time, and gives the steps that
// can go on.
func (x *work) each(ctx context.Context, which []int, do func(context.Context, int) error) []int {
	var group errgroup.Group
	group.SetLimit(x.atOnce)
	worked := make([]bool, len(which))
	for n, i := range which {
		group.Go(func() error {
			if x.stop() {
				return nil
			}
			if err := do(ctx, i); err != nil {
				x.end(i, err)
			} else {
				worked[n] = true
			}
			return nil
		})
	}
	_ = group.Wait() // every failure was noted
	var on []int
	for n, i := range which {
		if worked[n] {
			on = append(on, i)
		}
	}
	return on
}

// create makes accounts, many with one call where the service offers that.
func (x *work) create(ctx context.Context, which []int) {
	size := 1
	if len(which) > 1 {
		size = bulkSize(x.offers(ctx))
	}
	var group errgroup.Group
	group.SetLimit(x.atOnce)
	for len(which) > 0 && !x.stop() {
		part := which[:min(size, len(which))]
		which = which[len(part):]
		group.Go(func() error {
			if !x.stop() {
				x.createSome(ctx, part)
			}
			return nil
		})
	}
	_ = group.Wait() // every failure was noted
}

func (x *work) createSome(ctx context.Context, part []int) {
	if len(part) > 1 {
		users := make([]scim.User, len(part))
		for n, i := range part {
			users[n] = x.user(x.steps[i])
		}
		made, err := x.client.CreateUsers(ctx, users)
		if p, ok := call.As(err); !ok || !tooMuch(p) {
			for n, i := range part {
				if err != nil {
					x.end(i, err)
				} else if made[n].Err != nil {
					x.end(i, made[n].Err)
				} else {
					x.ids[i] = made[n].ID
				}
			}
			return
		}
	}
	for _, i := range part {
		if x.stop() {
			return
		}
		user, err := x.client.CreateUser(ctx, x.user(x.steps[i]))
		if err != nil {
			x.end(i, err)
			continue
		}
		x.ids[i] = user.ID
	}
}

// tooMuch reports whether a call that was for several is to be made for each.
func tooMuch(p *call.Problem) bool {
	return p.Kind == call.Refused || p.Kind == call.NotFound || p.Kind == call.NotEnabled ||
		p.Status == http.StatusRequestEntityTooLarge
}

func (x *work) user(s Step) scim.User {
	u := scim.User{
		Schemas: []string{scim.UserSchema}, ExternalID: s.Want.Identifier, UserName: s.Want.Email, Active: true,
		Name:   scim.Name{GivenName: s.Want.GivenName, FamilyName: s.Want.FamilyName},
		Emails: []scim.Email{{Value: s.Want.Email, Type: "work", Primary: true}},
	}
	if urn, name, ok := scim.Attribute(x.notice); ok {
		u.Extensions = map[string]map[string]any{urn: {name: s.Notify}}
	}
	return u
}

// update writes name and address of an account that Kanban made. Where the
// service keeps versions, the account is read first: somebody may have taken it
// over since it was compared.
func (w *Workspace) update(ctx context.Context, s Step) error {
	name := scim.Name{GivenName: s.Want.GivenName, FamilyName: s.Want.FamilyName}
	if !w.offers(ctx).ETag.Supported {
		return w.client.UpdateUser(ctx, s.AccountID, "", name, s.Want.Email)
	}
	for try := 0; ; try++ {
		user, err := w.client.User(ctx, s.AccountID)
		if err != nil {
			return err
		}
		if user.ExternalID != s.Want.Identifier {
			return &call.Problem{
				Kind:   call.Refused,
				Detail: "the account no longer carries the identifier that Kanban wrote, so it is left alone",
			}
		}
		err = w.client.UpdateUser(ctx, s.AccountID, user.Meta.Version, name, s.Want.Email)
		if p, ok := call.As(err); !ok || p.Status != http.StatusPreconditionFailed || try > 0 {
			return err
		}
	}
}

// change puts users into a group or takes them out.
type change func(ctx context.Context, group string, users ...string) error

// members puts accounts in or takes them out, many with one call, and gives the
// steps that can go on. When such a call is refused it is made again for each
// half, so that only whoever is at fault is refused.
func (x *work) members(ctx context.Context, group string, which []int, do change) (on []int) {
	for len(which) > 0 && !x.stop() {
		part := which[:min(chunk, len(which))]
		which = which[len(part):]
		on = append(on, x.halve(ctx, group, part, do)...)
	}
	return on
}

func (x *work) halve(ctx context.Context, group string, part []int, do change) (on []int) {
	if x.stop() {
		return nil
	}
	ids := make([]string, len(part))
	for n, i := range part {
		ids[n] = x.ids[i]
	}
	err := do(ctx, group, ids...)
	if p, ok := call.As(err); ok && tooMuch(p) && len(part) > 1 {
		on = x.halve(ctx, group, part[:len(part)/2], do)
		return append(on, x.halve(ctx, group, part[len(part)/2:], do)...)
	}
	if err != nil {
		for _, i := range part {
			x.end(i, err)
		}
		return nil
	}
	return part
}
