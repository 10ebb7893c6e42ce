// Package reporting says what needs a person today.
package reporting

import (
	"context"
	"encoding/json"
	"fmt"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/store"
)

// Service is the use case. Fill every field.
type Service struct{ Store *store.Store }

// Task is one thing that needs a person.
type Task struct {
	Code    finding.Code `json:"code"`
	Subject string       `json:"subject" doc:"Who or what it is about"`
	Where   string       `json:"where" doc:"The section, connection or rule"`
	Detail  string       `json:"detail"`
	Remedy  string       `json:"remedy"`
	Owner   string       `json:"owner" doc:"Who can mend it"`
	Link    string       `json:"link" doc:"The console page on which to do so"`
}

func task(code finding.Code, subject, where, detail, link string) Task {
	e, _ := finding.Lookup(code)
	return Task{code, subject, where, detail, e.Remedy, string(e.Owner), link}
}

// Today lists what needs a person, ordered by harm: connections that do not
// work, runs that stopped, deliveries that wait, people to mend.
func (s *Service) Today(ctx context.Context) ([]Task, error) {
	tasks, err := s.connections(ctx)
	if err != nil {
		return nil, err
	}
	runs, people, err := s.pairings(ctx)
	if err != nil {
		return nil, err
	}
	waiting, err := s.Store.Deliveries(ctx, store.DeliveryFilter{State: store.DeliveryWaiting, Limit: 200})
	if err != nil {
		return nil, err
	}
	tasks = append(tasks, runs...)
	for _, d := range waiting {
		tasks = append(tasks, task(finding.Code(d.Code), d.Person, d.Rule, d.LastError, "/events/"+d.EventID))
	}
	return append(tasks, people...), nil
}

func (s *Service) connections(ctx context.Context) ([]Task, error) {
	all, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	tasks := []Task{}
	for _, c := range all {
		var reports []adapter.Report
		if c.PausedAt != nil || len(c.Probe) == 0 || json.Unmarshal(c.Probe, &reports) != nil {
			continue
		}
		for _, r := range reports {
			if r.Code != "" {
				tasks = append(tasks, task(r.Code, string(r.Capability), c.Name, r.Detail, "/connections"))
			}
		}
	}
	return tasks, nil
}

func (s *Service) pairings(ctx context.Context) (runs, people []Task, err error) {
	all, err := s.Store.Pairings(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		if p.LastRunID == nil || p.PausedAt != nil {
			continue
		}
		section, err := s.Store.Section(ctx, p.SectionID)
		if err != nil {
			continue // a section that vanished from the register has nobody to mend
		}
		link := "/pairings/" + p.ID
		if p.LastFailed {
			run, err := s.Store.Run(ctx, *p.LastRunID)
			if err != nil {
				return nil, nil, err
			}
			runs = append(runs, task(finding.Code(run.ErrorCode), section.Title, p.TargetName, run.Error, link))
			continue
		}
		for _, m := range p.Mend {
			people = append(people, task(m.Code, m.Name, section.Title, detail(m), link))
		}
	}
	return runs, people, nil
}

func detail(m store.Mend) string {
	if m.Code == finding.AddressShared {
		return fmt.Sprintf("shared with %s", m.Detail)
	}
	return m.Detail
}
