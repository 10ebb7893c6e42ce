package teaching

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/taskstore"
)

// Missing is somebody of a section who is not in its class, as a teacher reads it.
type Missing struct {
	pairingstore.Mend
	Says    string        // why, in words for teachers
	Ask     finding.Owner // who can mend it
	Waiting bool          // it mends itself, or the teacher opens the class: nobody has to be asked
	Task    *taskstore.ListedTask
}

// missing says who is missing by the latest comparison of a pairing, those for whom somebody has to do something
// first, with what was handed on of its sections. It says nothing of whom the policy leaves out on purpose.
func (s *Service) missing(ctx context.Context, p pairingstore.Pairing, sections []string) (all []Missing, err error) {
	tasks, err := taskstore.Handed(ctx, s.Store, sections)
	if err != nil {
		return nil, err
	}
	latest := map[string]*taskstore.ListedTask{}
	for i, t := range tasks {
		if t.PersonID != nil && latest[*t.PersonID] == nil {
			latest[*t.PersonID] = &tasks[i]
		}
	}
	add := func(m pairingstore.Mend, waiting bool) {
		text, _ := finding.Lookup(m.Code)
		all = append(all, Missing{
			Mend: m, Says: finding.ForTeachers(m.Code), Ask: text.Owner, Waiting: waiting, Task: latest[m.PersonID],
		})
	}
	for _, m := range p.Mend {
		add(m, false)
	}
	for _, m := range p.LeftAsIs {
		if m.Outcome == roster.OutcomeWaiting {
			add(m, true)
		}
	}
	return all, nil
}

// Handing is a difference that is handed to whoever can mend it.
type Handing struct {
	UserID, User string // who hands it on
	SectionID    string
	PersonID     string
	Note         string
}

// Compared is what is attached to what was handed on: what the latest comparison found of somebody, and what the
// register had of them then.
type Compared struct {
	Code    finding.Code       `json:"code"`
	Title   string             `json:"title"`
	Detail  string             `json:"detail,omitempty"`
	Remedy  string             `json:"remedy"`
	Class   string             `json:"class"`
	Since   *time.Time         `json:"since,omitempty"`
	Person  rosterstore.Person `json:"register"`
	Pairing string             `json:"pairingId"` // by which both sides can be compared anew
}

// HandOn opens a task for whoever can mend a difference, with the comparison. It is handed on once until that is done,
// by whichever teacher of the class.
func (s *Service) HandOn(ctx context.Context, h Handing) (t taskstore.ListedTask, err error) {
	x, err := s.one(ctx, h.UserID, h.SectionID)
	if err != nil {
		return t, err
	}
	p, there, err := s.paired(ctx, x)
	switch {
	case err != nil:
		return t, err
	case !there:
		return t, refusal.Conflict("", "the section has no class outside yet")
	}
	all, err := s.missing(ctx, p, parts(x.Card))
	if err != nil {
		return t, err
	}
	for _, m := range all {
		if m.PersonID == h.PersonID && h.PersonID != "" {
			return s.handOn(ctx, h, x, p, m)
		}
	}
	return t, refusal.Conflict("", "they are not missing by the latest comparison; sync now to look anew")
}

func (s *Service) handOn(ctx context.Context, h Handing, x Section, p pairingstore.Pairing, m Missing,
) (found taskstore.ListedTask, err error) {
	person, err := rosterstore.PersonAt(ctx, s.Store, h.PersonID, h.SectionID)
	if err != nil {
		return found, err
	}
	text, _ := finding.Lookup(m.Code)
	about, err := json.Marshal(Compared{
		Code: m.Code, Title: text.Title, Detail: m.Detail, Remedy: text.Remedy, Class: p.TargetName, Since: m.Since,
		Person: person, Pairing: p.ID,
	})
	if err != nil {
		return found, err
	}
	t := taskstore.Task{
		ID: db.NewID(), Title: person.Name() + " is not in the class of " + x.Title() + ": " + text.Title,
		Detail: strings.TrimSpace(h.Note), Owner: string(text.Owner), PersonID: &h.PersonID, SectionID: &h.SectionID,
		AskedBy: &h.UserID, Asker: h.User, About: about,
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		open, err := taskstore.HandedNow(ctx, tx, parts(x.Card), h.PersonID)
		if err != nil {
			return err
		}
		if open {
			return refusal.Conflict("", "this was handed on already; what is answered comes back here")
		}
		if err := db.Create(tx, &t, "handing on a difference"); err != nil {
			return err
		}
		if err := tx.Announce(ctx, "task", t.ID); err != nil {
			return err
		}
		return tx.Audit(ctx, h.User, "handed a difference on", "task/"+t.ID, map[string]string{
			"person": person.Name(), "section": x.Title(), "code": string(m.Code),
		})
	})
	if err != nil {
		return found, err
	}
	return taskstore.FindTask(ctx, s.Store, t.ID)
}
