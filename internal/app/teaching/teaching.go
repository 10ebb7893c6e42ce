// Package teaching shows teachers their own sections as they have arranged them, says who is missing in words for
// teachers, and hands differences to whoever can mend them.
package teaching

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/png"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/image/draw"

	_ "image/gif"  // a form in which pictures come
	_ "image/jpeg" // another one

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/taskstore"
	"kanban/internal/store/teachingstore"
)

// Service is the use case.
type Service struct{ Store *db.Database }

const (
	longestName = 60
	// Bounds of a picture: in bytes and pixels as it comes, and in pixels as it is kept.
	MostPicture = 4 << 20
	widest      = 6000
	kept        = 192
	// longestNote bounds what is said with what is handed on.
	longestNote = 2000
)

// Own gives how a user has arranged sections, by section.
func (s *Service) Own(ctx context.Context, userID string) (map[string]teachingstore.OwnSection, error) {
	return teachingstore.OwnSections(ctx, s.Store, userID)
}

// SetUps says what there is of sections besides their classes outside, by section.
func (s *Service) SetUps(ctx context.Context, sections []string) (map[string]teachingstore.SetUp, error) {
	return teachingstore.SetUps(ctx, s.Store, sections)
}

// Name gives a section a short name that only this user sees; an empty one takes it away.
func (s *Service) Name(ctx context.Context, userID, sectionID, name string) error {
	name = strings.TrimSpace(name)
	if utf8.RuneCountInString(name) > longestName {
		return refusal.Invalid("shortName", "has more than %d characters", longestName)
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.NameOwnSection(ctx, tx, userID, sectionID, name)
	})
}

// Order puts sections into an order that only this user sees; others stand behind them.
func (s *Service) Order(ctx context.Context, userID string, sections []string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.OrderOwnSections(ctx, tx, userID, sections)
	})
}

// SetPicture gives a section a picture that only this user sees: a PNG, JPEG or GIF, which is made small, and of which
// nothing but what is to be seen is kept. Without content it is taken away.
func (s *Service) SetPicture(ctx context.Context, userID, sectionID string, content []byte) error {
	var small []byte
	if len(content) > 0 {
		var err error
		if small, err = shrunk(content); err != nil {
			return err
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.PictureOwnSection(ctx, tx, userID, sectionID, small)
	})
}

// Picture gives a user's picture of a section, a PNG.
func (s *Service) Picture(ctx context.Context, userID, sectionID string) ([]byte, error) {
	return teachingstore.PictureOf(ctx, s.Store, userID, sectionID)
}

// shrunk makes a picture a small square, its middle where it is none.
func shrunk(content []byte) ([]byte, error) {
	const what = "is no picture that can be read: give a PNG, JPEG or GIF"
	size, _, err := image.DecodeConfig(bytes.NewReader(content))
	switch {
	case err != nil || size.Width < 1 || size.Height < 1:
		return nil, refusal.Invalid("picture", what)
	case size.Width > widest || size.Height > widest:
		return nil, refusal.Invalid("picture", "is larger than %d by %d pixels", widest, widest)
	}
	from, _, err := image.Decode(bytes.NewReader(content))
	if err != nil {
		return nil, refusal.Invalid("picture", what)
	}
	b := from.Bounds()
	side := min(b.Dx(), b.Dy())
	at := b.Min.Add(image.Pt((b.Dx()-side)/2, (b.Dy()-side)/2))
	to := image.NewRGBA(image.Rect(0, 0, kept, kept))
	draw.CatmullRom.Scale(to, to.Bounds(), from, image.Rectangle{Min: at, Max: at.Add(image.Pt(side, side))},
		draw.Src, nil)
	var out bytes.Buffer
	err = png.Encode(&out, to)
	return out.Bytes(), err
}

// Missing is somebody of a section who is not in its class, as a teacher reads it.
type Missing struct {
	pairingstore.Mend
	Says    string        // why, in words for teachers
	Ask     finding.Owner // who can mend it
	Waiting bool          // it mends itself, or the teacher opens the class: nobody has to be asked
	Task    *taskstore.ListedTask
}

// MissingOf says who is missing by the latest comparison of a pairing, those for whom somebody has to do something
// first, with what was handed on. It says nothing of whom the policy leaves out on purpose.
func (s *Service) MissingOf(ctx context.Context, p pairingstore.Pairing, sections []string) ([]Missing, error) {
	tasks, err := taskstore.Handed(ctx, s.Store, sections)
	if err != nil {
		return nil, err
	}
	missing := []Missing{}
	add := func(m pairingstore.Mend, waiting bool) {
		text, _ := finding.Lookup(m.Code)
		x := Missing{Mend: m, Says: finding.ForTeachers(m.Code), Ask: text.Owner, Waiting: waiting}
		for i, t := range tasks {
			if t.PersonID != nil && *t.PersonID == m.PersonID && x.Task == nil {
				x.Task = &tasks[i] // the latest
			}
		}
		missing = append(missing, x)
	}
	for _, m := range p.Mend {
		add(m, false)
	}
	for _, m := range p.LeftAsIs {
		if m.Outcome == roster.OutcomeWaiting {
			add(m, true)
		}
	}
	return missing, nil
}

// Handing is a difference that is handed to whoever can mend it.
type Handing struct {
	UserID, User string // who hands it on
	Section      string // its title
	SectionID    string
	Pairing      pairingstore.Pairing
	PersonID     string
	Note         string
}

// Compared is what is attached to what was handed on: both sides as they were.
type Compared struct {
	Code    finding.Code       `json:"code"`
	Title   string             `json:"title"`
	Detail  string             `json:"detail,omitempty"`
	Remedy  string             `json:"remedy"`
	Class   string             `json:"class"`
	Since   *time.Time         `json:"since,omitempty"`
	Person  rosterstore.Person `json:"register"`
	Counts  map[string]int     `json:"counts,omitempty"`
	Pairing string             `json:"pairingId"`
}

// HandOn opens a task for whoever can mend a difference, with the comparison. It is handed on once until that is done.
func (s *Service) HandOn(ctx context.Context, h Handing) (taskstore.Task, error) {
	if utf8.RuneCountInString(h.Note) > longestNote {
		return taskstore.Task{}, refusal.Invalid("note", "has more than %d characters", longestNote)
	}
	all, err := s.MissingOf(ctx, h.Pairing, []string{h.SectionID})
	if err != nil {
		return taskstore.Task{}, err
	}
	for _, m := range all {
		if m.PersonID != h.PersonID || h.PersonID == "" {
			continue
		}
		if m.Task != nil && m.Task.DoneAt == nil {
			return taskstore.Task{}, refusal.Conflict("", "this was handed on already; what is answered comes back here")
		}
		return s.handOn(ctx, h, m)
	}
	return taskstore.Task{}, refusal.Conflict("", "they are not missing by the latest comparison; sync now to look anew")
}

func (s *Service) handOn(ctx context.Context, h Handing, m Missing) (taskstore.Task, error) {
	p, err := rosterstore.PersonAt(ctx, s.Store, h.PersonID, h.SectionID)
	if err != nil {
		return taskstore.Task{}, err
	}
	text, _ := finding.Lookup(m.Code)
	counts := map[string]int{}
	for outcome, n := range h.Pairing.Counts {
		counts[string(outcome)] = n
	}
	about, err := json.Marshal(Compared{
		Code: m.Code, Title: text.Title, Detail: m.Detail, Remedy: text.Remedy, Class: h.Pairing.TargetName,
		Since:  m.Since,
		Person: p, Counts: counts, Pairing: h.Pairing.ID,
	})
	if err != nil {
		return taskstore.Task{}, err
	}
	t := taskstore.Task{
		ID: db.NewID(), Title: p.Name() + " is not in the class of " + h.Section + ": " + text.Title,
		Detail: strings.TrimSpace(h.Note), Owner: string(text.Owner), PersonID: &h.PersonID, SectionID: &h.SectionID,
		AskedBy: &h.UserID, Asker: h.User, About: about,
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if open, err := taskstore.HandedNow(ctx, tx, t); err != nil || open {
			if err == nil {
				err = refusal.Conflict("", "this was handed on already; what is answered comes back here")
			}
			return err
		}
		if err := db.Create(tx, &t, "handing on a difference"); err != nil {
			return err
		}
		if err := tx.Announce(ctx, "task", t.ID); err != nil {
			return err
		}
		return tx.Audit(ctx, h.User, "handed a difference on", "task/"+t.ID, map[string]string{
			"person": p.Name(), "section": h.Section, "code": string(m.Code),
		})
	})
	return t, err
}
