package pipeline

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/hooks"
	"kanban/internal/adapter/mails"
	"kanban/internal/adapter/services"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/taskstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// outcome is what an attempt sent and got.
type outcome struct {
	status          int
	request, answer string
	result          map[string]any
	// keep writes what the action made, together with the delivery's end.
	keep func(context.Context, *db.Tx) error
}

// prepared is an action with everything filled in.
type prepared struct {
	via adapter.Interface
	// shown is what is going to be sent, for people.
	shown map[string]any
	// check asks the service whether what must exist beforehand does; nil when
	// nothing must.
	check func(context.Context) error
	do    func(context.Context) (outcome, error)
}

// attempt carries out the action of a delivery.
func (s *Deliveries) attempt(ctx context.Context, open opener, d deliverystore.Delivery, e eventstore.Event,
	values rule.Values,
) (outcome, error) {
	p, err := s.prepare(ctx, open, d, e, values)
	if err != nil {
		return outcome{}, err
	}
	return p.do(ctx)
}

// opener gives an interface with its secrets.
type opener func(ctx context.Context, interfaceID string) (adapter.Interface, error)

// prepare fills an action in, so that it can be shown, checked or done.
func (s *Deliveries) prepare(ctx context.Context, open opener, d deliverystore.Delivery, e eventstore.Event,
	values rule.Values,
) (p prepared, err error) {
	if d.Action.InterfaceID != "" {
		if p.via, err = open(ctx, d.Action.InterfaceID); err != nil {
			return p, err
		}
	}
	fill := map[string]func(context.Context, *prepared, deliverystore.Delivery, eventstore.Event, rule.Values) error{
		rule.SendEvent: s.send, rule.Mail: s.mail, rule.Award: s.award, rule.CallOperation: s.operate,
		rule.Enrol: s.enrol, rule.Unenrol: s.enrol, rule.AddToGroup: s.group, rule.TakeFrom: s.group,
		rule.OpenTask: s.task, rule.AppendRow: s.row,
	}[d.Action.Kind]
	if fill == nil {
		return p, refusal.Invalid("kind", "%q cannot be done", d.Action.Kind)
	}
	return p, fill(ctx, &p, d, e, values)
}

// fields works out named values; one that is missing or empty gets its fallback.
func (s *Deliveries) fields(a rule.Action, values rule.Values) (map[string]any, error) {
	out := make(map[string]any, len(a.Fields))
	for _, name := range slices.Sorted(maps.Keys(a.Fields)) {
		v, err := s.Expressions.Value(a.Fields[name], values)
		fallback, there := a.Fallbacks[name]
		if there && (err != nil || v == nil || v == "") {
			v, err = fallback, nil
		}
		if err != nil {
			return nil, refuseText("fields."+name, err)
		}
		if email, known := values["person"]["email"]; known && email == "" && v == "" &&
			strings.TrimSpace(a.Fields[name]) == "person.email" && a.Kind != rule.AppendRow {
			return nil, refusal.Conflict(finding.AddressMissing, "there is no address to give as %s", name)
		}
		out[name] = v
	}
	return out, nil
}

func refuseText(field string, err error) error {
	return &refusal.Error{
		Kind: refusal.KindInvalid, Field: field, Detail: err.Error(),
		Code: finding.TemplateIncorrect,
	}
}

// once makes calls that are not tried again by themselves: the delivery is.
func (s *Deliveries) once() call.Options {
	o := s.Call
	o.Retries = -1
	return o
}

func (s *Deliveries) send(_ context.Context, p *prepared, d deliverystore.Delivery, e eventstore.Event,
	values rule.Values,
) error {
	data, err := s.fields(d.Action, values)
	if err != nil {
		return err
	}
	if d.Undoes != nil {
		data["undoes"] = *d.Undoes
	}
	event := webhook.Event{
		ID: d.ID, Source: s.Source, Type: "kanban." + e.Type, Subject: text(e.PersonID),
		Time: e.OccurredAt, Data: data,
	}
	if isTest(values) {
		event.Type = "kanban.test." + e.Type
	}
	p.shown = map[string]any{"type": event.Type, "data": data}
	p.do = func(ctx context.Context) (outcome, error) {
		sent, err := hooks.New(p.via, s.once()).Send(ctx, event, time.Now())
		return outcome{status: sent.Status, request: sent.Request, answer: sent.Answer}, err
	}
	return nil
}

// mailLimit is how long a mail server may take for one mail.
func (s *Deliveries) mailLimit() time.Duration { return cmp.Or(s.MailLimit, 25*time.Second) }

func (s *Deliveries) mail(_ context.Context, p *prepared, d deliverystore.Delivery, _ eventstore.Event,
	values rule.Values,
) error {
	address, err := s.recipient(d.Action, values)
	if err != nil {
		return err
	}
	subject, err := rule.Fill(d.Action.Subject, values)
	if err != nil {
		return refuseText("subject", err)
	}
	body, err := rule.Fill(d.Action.Text, values)
	if err != nil {
		return refuseText("text", err)
	}
	if isTest(values) {
		subject = "[Test] " + subject
	}
	p.shown = map[string]any{"to": address, "subject": subject, "text": body}
	m := mails.Mail{ID: d.ID, To: address, Subject: subject, Text: body}
	if email, _ := values["person"]["email"].(string); email == address {
		m.ToName, _ = values["person"]["name"].(string)
	}
	if d.RuleID != nil && !isTest(values) {
		if m.Unsubscribe, err = s.unsubscribeLink(*d.RuleID, address); err != nil {
			return err
		}
	}
	p.do = func(ctx context.Context) (outcome, error) {
		code, err := mails.New(p.via, s.mailLimit()).Send(ctx, m)
		return outcome{status: code, request: "To: " + address + "\nSubject: " + subject + "\n\n" + body}, err
	}
	return nil
}

func (s *Deliveries) award(ctx context.Context, p *prepared, d deliverystore.Delivery, e eventstore.Event,
	_ rule.Values,
) error {
	b, err := badgestore.FindBadge(ctx, s.Store, d.Action.BadgeID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return err
	}
	p.shown = map[string]any{"badge": b.Name}
	p.do = func(ctx context.Context) (outcome, error) {
		award, err := s.Badges.Award(ctx, d.Action.BadgeID, e, time.Now().UTC())
		address := s.Badges.AwardAddress(award.ID)
		return outcome{result: map[string]any{"awardId": award.ID, "address": address}, answer: address}, err
	}
	return nil
}

func (s *Deliveries) operate(ctx context.Context, p *prepared, d deliverystore.Delivery, _ eventstore.Event,
	values rule.Values,
) error {
	o, err := connectionstore.FindOperation(ctx, s.Store, d.Action.InterfaceID, d.Action.Operation)
	if err == nil && d.Undoes != nil {
		if o.Undo == "" {
			return refusal.Conflict(finding.CannotRevert, "the operation %s names none that reverts it", o.Name)
		}
		o, err = connectionstore.FindOperation(ctx, s.Store, d.Action.InterfaceID, o.Undo)
	}
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Conflict(finding.OperationGone, "%s defines no operation %q", p.via.Name,
			d.Action.Operation)
	}
	if err != nil {
		return err
	}
	data, err := s.fields(d.Action, values)
	if err != nil {
		return err
	}
	request, err := o.Fill(data)
	if err != nil {
		return refuseText("fields", err)
	}
	service := services.New(p.via, s.once())
	p.shown = map[string]any{"call": request.Method + " " + request.Path, "values": data}
	p.check = func(ctx context.Context) error { return s.checkListed(ctx, service, o, data) }
	p.do = func(ctx context.Context) (outcome, error) {
		look, provable, err := o.ProofRequest(data)
		if err != nil {
			return outcome{}, refuseText("fields", err)
		}
		if provable && d.Attempts > 1 { // an earlier attempt may have had its effect
			if seen, err := s.seen(ctx, service, o, look, data); err == nil && seen {
				return outcome{
					answer: "seen there already, so it was not sent again",
					result: map[string]any{"seen": true},
				}, nil
			}
		}
		out, err := s.operated(ctx, service, o, request, d.ID)
		if err != nil || !provable {
			return out, err
		}
		seen, err := call.LookAgain(ctx, adapter.Late(p.via),
			func() (bool, error) { return s.seen(ctx, service, o, look, data) })
		word := "sent, not seen there yet; "
		if err == nil && seen {
			word = "sent and seen there; "
		}
		out.answer, out.result = word+out.answer, map[string]any{"seen": seen}
		return out, nil
	}
	return nil
}

// seen asks the service whether an operation had its effect.
func (s *Deliveries) seen(ctx context.Context, service *services.Service, o rule.Operation, look rule.Request,
	data map[string]any,
) (bool, error) {
	answer, err := service.Do(ctx, look, "")
	if p, ok := call.As(err); err != nil && (!ok || p.Passing() || answer.Status == 0) {
		return false, err
	}
	return s.Expressions.Holds(o.Proof, rule.Values{"answer": {
		"status": int64(answer.Status), "body": answer.Body,
		"values": data,
	}})
}

// operated makes the call and asks the success condition.
func (s *Deliveries) operated(ctx context.Context, service *services.Service, o rule.Operation, r rule.Request,
	key string,
) (outcome, error) {
	answer, err := service.Do(ctx, r, key)
	out := outcome{status: answer.Status, request: answer.Request, answer: answer.Excerpt}
	p, isCall := call.As(err)
	if o.Success == "" || err != nil && (!isCall || p.Passing() || answer.Status == 0) {
		return out, err
	}
	worked, problem := s.Expressions.Holds(o.Success, rule.Values{"answer": {
		"status": int64(answer.Status),
		"body":   answer.Body,
	}})
	switch {
	case problem != nil && err == nil:
		return out, refusal.Conflict(finding.NotSuccess, "it is not clear whether it worked: %v; the answer was %s",
			problem, answer.Excerpt)
	case problem == nil && worked:
		return out, nil // even when the status says otherwise, as with "there already"
	case err == nil:
		return out, refusal.Conflict(finding.NotSuccess, "the service answered %d: %s", answer.Status, answer.Excerpt)
	}
	return out, err
}

// checkListed asks the service for the values there are, where a field says how, and
// refuses one that is not among them.
func (s *Deliveries) checkListed(ctx context.Context, service *services.Service, o rule.Operation,
	data map[string]any,
) error {
	for _, f := range o.Fields {
		value := fmt.Sprint(data[f.Name])
		if f.ListPath == "" || data[f.Name] == nil || value == "" {
			continue
		}
		there, err := s.listed(ctx, service, f)
		if err != nil {
			return err
		}
		if !slices.Contains(there, value) {
			return refusal.Conflict(finding.GroupMissing, "the service has no %s %q; it has %s", f.Name, value,
				shortList(there))
		}
	}
	return nil
}

func (s *Deliveries) listed(ctx context.Context, service *services.Service, f rule.OperationField) ([]string, error) {
	answer, err := service.Do(ctx, rule.Request{Method: "GET", Path: f.ListPath}, "")
	if err != nil {
		return nil, err
	}
	out, err := s.Expressions.Value(f.List, rule.Values{"answer": {
		"status": int64(answer.Status),
		"body":   answer.Body,
	}})
	if err != nil {
		return nil, refuseText("list", err)
	}
	list, ok := out.([]any)
	if !ok {
		return nil, refuseText("list", fmt.Errorf("%w: %q gives no list", rule.ErrExpression, f.List))
	}
	texts := make([]string, len(list))
	for i, x := range list {
		texts[i] = fmt.Sprint(x)
	}
	return texts, nil
}

func shortList(all []string) string {
	const most = 8
	text := fmt.Sprintf("%q", all[:min(len(all), most)])
	if len(all) > most {
		text += fmt.Sprintf(" and %d more", len(all)-most)
	}
	return text
}

// someone is the event's person, as the service may know them.
func (s *Deliveries) someone(ctx context.Context, d deliverystore.Delivery, values rule.Values) (workspaces.Someone,
	error,
) {
	if d.PersonID == nil {
		email, _ := values["event"]["email"].(string)
		if email == "" {
			return workspaces.Someone{}, refusal.Conflict(finding.BuyerUnknown,
				"the event is about nobody who is known, and gives no address")
		}
		name, _ := values["event"]["name"].(string)
		given, family := splitName(name, email)
		return workspaces.Someone{Email: email, GivenName: given, FamilyName: family}, nil
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, *d.PersonID)
	if err != nil {
		return workspaces.Someone{}, err
	}
	out := workspaces.Someone{
		Identifier: p.Identifier, Email: p.Email, UserName: p.UserName, GivenName: p.GivenName,
		FamilyName: p.FamilyName,
	}
	accounts, err := matchstore.AccountsOf(ctx, s.Store, p.ID)
	for _, a := range accounts {
		if a.InterfaceID == d.Action.InterfaceID && !a.Denied {
			out.AccountID = a.RemoteID
		}
	}
	return out, err
}

// change puts a person into a group, or takes them out, and reads it back.
func (s *Deliveries) change(p *prepared, g workspaces.Group, who workspaces.Someone, in bool) {
	w := workspaces.New(p.via, s.once())
	p.check = func(ctx context.Context) error {
		_, err := w.FindGroup(ctx, g)
		return groupRefusal(err, who)
	}
	p.do = func(ctx context.Context) (outcome, error) {
		do, word := w.Put, "added to"
		if !in {
			do, word = w.Take, "taken out of"
		}
		account, err := do(ctx, g, who)
		out := outcome{
			request: fmt.Sprintf("%s %s %s", cmp.Or(who.Email, who.Identifier), word, g),
			result:  map[string]any{"account": account},
		}
		if err == nil {
			out.answer = "read back: it is so"
		}
		return out, groupRefusal(err, who)
	}
}

func groupRefusal(err error, who workspaces.Someone) error {
	switch {
	case errors.Is(err, workspaces.ErrNoAccount) && who.Email == "":
		return refusal.Conflict(finding.AddressMissing, "%v, and none can be made without an address", err)
	case errors.Is(err, workspaces.ErrNoGroup):
		return refusal.Conflict(finding.GroupMissing, "%v", err)
	case errors.Is(err, workspaces.ErrNoAccount):
		return refusal.Conflict(finding.AccountMissing, "%v", err)
	}
	return err
}

func (s *Deliveries) group(ctx context.Context, p *prepared, d deliverystore.Delivery, _ eventstore.Event,
	values rule.Values,
) error {
	name, err := rule.Fill(d.Action.Group, values)
	if err != nil {
		return refuseText("group", err)
	}
	who, err := s.someone(ctx, d, values)
	if err != nil {
		return err
	}
	in := d.Action.Kind == rule.AddToGroup
	p.shown = map[string]any{"group": name, "person": cmp.Or(who.Email, who.Identifier), "in": in}
	s.change(p, workspaces.Group{Name: name}, who, in)
	return nil
}

// enrol enrols a person in a section of the course platform, or takes them out: as a
// member of the platform's group for the section, or with a row for it to pick up.
func (s *Deliveries) enrol(ctx context.Context, p *prepared, d deliverystore.Delivery, _ eventstore.Event,
	values rule.Values,
) error {
	id := cmp.Or(d.Action.SectionID, text(d.SectionID))
	if id == "" {
		return refusal.Invalid("sectionId", "the event is about no section; choose one for the action")
	}
	x, err := rosterstore.FindSection(ctx, s.Store, id)
	if err != nil {
		return err
	}
	sourced, err := rosterstore.SectionSourcedID(ctx, s.Store, id)
	if err != nil {
		return err
	}
	who, err := s.someone(ctx, d, values)
	if err != nil {
		return err
	}
	in := d.Action.Kind == rule.Enrol
	p.shown = map[string]any{"section": x.Title, "person": cmp.Or(who.Email, who.Identifier), "in": in}
	if p.via.Kind == adapter.KindSCIM {
		s.change(p, workspaces.Group{ExternalID: sourced, Name: x.Code}, who, in)
		return nil
	}
	if d.PersonID != nil { // the register of the section knows them by its own identifier
		record, err := rosterstore.PersonAt(ctx, s.Store, *d.PersonID, id)
		if err != nil {
			return err
		}
		who.Identifier = record.Identifier
	}
	if who.Identifier == "" {
		return refusal.Conflict(finding.BuyerUnknown,
			"only somebody in the register can be enrolled with a file; nobody there has the address %s", who.Email)
	}
	p.do = func(context.Context) (outcome, error) {
		word := "enrolled"
		if !in {
			word = "taken out"
		}
		return outcome{
			request: fmt.Sprintf("%s %s in %s, to be picked up", who.Identifier, word, sourced),
			keep: func(ctx context.Context, tx *db.Tx) error {
				return deliverystore.KeepPickup(ctx, tx,
					deliverystore.Pickup{
						InterfaceID: p.via.ID, Person: who.Identifier, Section: sourced,
						Role: "student", Active: in,
					})
			},
		}, nil
	}
	return nil
}

func (s *Deliveries) task(_ context.Context, p *prepared, d deliverystore.Delivery, e eventstore.Event,
	values rule.Values,
) error {
	if d.Undoes != nil {
		p.shown = map[string]any{"closes": *d.Undoes}
		p.do = func(context.Context) (outcome, error) {
			return outcome{answer: "the task is closed", keep: func(ctx context.Context, tx *db.Tx) error {
				_, err := taskstore.EndTask(ctx, tx, taskstore.Task{DeliveryID: d.Undoes}, "a rule")
				return err
			}}, nil
		}
		return nil
	}
	title, err := rule.Fill(d.Action.Subject, values)
	if err != nil {
		return refuseText("subject", err)
	}
	detail, err := rule.Fill(d.Action.Text, values)
	if err != nil {
		return refuseText("text", err)
	}
	t := taskstore.Task{
		ID: db.NewID(), DeliveryID: &d.ID, RuleID: d.RuleID, Title: title, Detail: detail,
		Owner: d.Action.Owner, PersonID: e.PersonID, SectionID: e.SectionID,
	}
	if wait, _ := rule.Span(d.Action.DueIn); wait > 0 {
		due := s.Clock.Now().Add(wait)
		t.DueAt = &due
	}
	p.shown = map[string]any{"title": title, "text": detail, "owner": t.Owner}
	p.do = func(context.Context) (outcome, error) {
		return outcome{
			request: title, result: map[string]any{"taskId": t.ID},
			keep: func(ctx context.Context, tx *db.Tx) error {
				if err := db.Create(tx, &t, "opening the task"); err != nil {
					return err
				}
				return tx.Announce(ctx, "task", t.ID)
			},
		}, nil
	}
	return nil
}

func (s *Deliveries) row(_ context.Context, p *prepared, d deliverystore.Delivery, _ eventstore.Event,
	values rule.Values,
) error {
	cells, err := s.fields(d.Action, values)
	if err != nil {
		return err
	}
	p.shown = map[string]any{"sheet": d.Action.Sheet, "cells": cells}
	p.do = func(context.Context) (outcome, error) {
		return outcome{
			request: fmt.Sprintf("%s: %v", d.Action.Sheet, cells),
			keep: func(ctx context.Context, tx *db.Tx) error {
				return deliverystore.AppendRow(ctx, tx, d.Action.Sheet, d.ID, cells)
			},
		}, nil
	}
	return nil
}
