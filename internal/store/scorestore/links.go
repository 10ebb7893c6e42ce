package scorestore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/grade"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// Policy is what was set once for a link, for all its sections.
type Policy struct {
	Mode     grade.Mode    `json:"mode"`
	Content  grade.Content `json:"content"`
	Comments bool          `json:"comments"`
	// Flags says what becomes of a score with a flag, by the flag's name.
	Flags map[string]Flag `json:"flags"`
	// Category is the book's category for whatever has none there, Categories those that somebody chose, by the
	// source's; each by its id, or by its title when that is one category's only. Makes says that categories that
	// the book lacks are made there.
	Category   string            `json:"category,omitempty"`
	Categories map[string]string `json:"categories,omitempty"`
	Makes      bool              `json:"makesCategories"`
	// PeriodKind is which kind of session of the register counts.
	PeriodKind string `json:"periodKind"`
	// Template is the name of the one that says what is expected; that of the organisation when empty.
	Template      string            `json:"template,omitempty"`
	Basis         grade.DateBasis   `json:"basis"`
	WithoutPoints bool              `json:"withoutPoints"`
	Schedule      schedule.Schedule `json:"schedule"`
}

// Flag says what becomes of a score with a flag: of its value, and whether the flag itself stays behind.
type Flag struct {
	Value grade.FlagValue `json:"value"`
	Drop  bool            `json:"drop,omitempty"`
}

// Link carries scores from a class of one interface to those of another.
type Link struct {
	ID                string
	TestLearner       string `gorm:"-"` // the person whose scores are carried beside those of learners, to prove it
	SetID             *string
	SourceInterfaceID string
	SourceClass       string
	BookInterfaceID   string
	Policy            Policy          `gorm:"serializer:json"`
	Counts            map[string]int  `gorm:"serializer:json"` // results by outcome, as compared last
	Reasons           []grade.Reasons `gorm:"serializer:json"` // why nothing more is carried
	NotReady          int             // assignments
	OldestDraft       *time.Time      // when the oldest score was entered that is not final
	// DraftDays is how many scores that are not final were entered on which day (UTC), "" where that is not known.
	DraftDays   map[string]int `gorm:"serializer:json"`
	ComparedAt  *time.Time
	RanAt       *time.Time
	NextAt      *time.Time
	NoticedAt   *time.Time // when the source said last that scores became final
	LastRunID   *string
	LastFailed  bool
	Trouble     string // why the latest comparison did not come about
	TroubleCode string
	PausedAt    *time.Time
	EndedAt     *time.Time
	MadeBy      string
	Version     int
	CreatedAt   time.Time
}

// TableName names the table for GORM.
func (Link) TableName() string { return "score_links" }

// Section is a section of a link with the book's class of it.
type Section struct {
	LinkID    string
	SectionID string
	Position  int
	BookClass string
}

// TableName names the table for GORM.
func (Section) TableName() string { return "score_link_sections" }

// FindLink finds one by id.
func FindLink(ctx context.Context, from db.From, id string) (l Link, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&l).Error
	return l, db.Known(err, "finding the score link")
}

// Links lists those that have not ended, or of one section all, the newest first.
func Links(ctx context.Context, from db.From, sectionID string) (all []Link, err error) {
	q := from.Records(ctx).Order("created_at DESC, id DESC")
	if sectionID == "" {
		q = q.Where("ended_at IS NULL")
	} else {
		q = q.Where("id IN (SELECT link_id FROM score_link_sections WHERE section_id = ?)", sectionID)
	}
	err = q.Find(&all).Error
	return all, db.Known(err, "listing score links")
}

// LinksOf lists those of sections that have not ended and were compared, the newest first.
func LinksOf(ctx context.Context, from db.From, sectionIDs []string) (all []Link, err error) {
	err = from.Records(ctx).Where("ended_at IS NULL AND compared_at IS NOT NULL").
		Where("id IN (SELECT link_id FROM score_link_sections WHERE section_id = ANY (?::uuid[]))",
			db.TextArray(sectionIDs)).Order("created_at DESC, id DESC").Find(&all).Error
	return all, db.Known(err, "listing score links")
}

// SectionsOf gives the sections of links, by link, in their order.
func SectionsOf(ctx context.Context, from db.From, links []string) (map[string][]Section, error) {
	var all []Section
	err := from.Records(ctx).Where("link_id IN ?", links).Order("link_id, position, section_id").Find(&all).Error
	out := map[string][]Section{}
	for _, s := range all {
		out[s.LinkID] = append(out[s.LinkID], s)
	}
	return out, db.Known(err, "finding the sections of score links")
}

// CreateLink keeps a new link with its sections.
func CreateLink(tx *db.Tx, l *Link, sections []Section) error {
	if err := db.Create(tx, l, "making the score link"); err != nil {
		return err
	}
	return db.Known(tx.DB.Create(&sections).Error, "making the score link")
}

// AddSections gives a link sections that its linked set has by now.
func AddSections(tx *db.Tx, sections []Section) error {
	if len(sections) == 0 {
		return nil
	}
	return db.Known(tx.DB.Create(&sections).Error, "adding sections to the score link")
}

// UpdateLink writes an edited link whose version must still be the one that was read.
func UpdateLink(tx *db.Tx, l *Link) error {
	read := l.Version
	l.Version++
	done := tx.DB.Where("id = ? AND version = ?", l.ID, read).Select("source_interface_id", "source_class",
		"book_interface_id", "policy", "next_at", "paused_at", "ended_at", "version").Updates(l)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the score link: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the score link")
}

// KeepCompared keeps what a comparison of a link found, or why there was none.
func KeepCompared(ctx context.Context, tx *db.Tx, l *Link) error {
	err := tx.Records(ctx).Where("id = ?", l.ID).Select("counts", "reasons", "not_ready", "oldest_draft", "draft_days",
		"compared_at", "trouble", "trouble_code").Updates(l).Error
	return db.Known(err, "keeping the comparison")
}

// Due lists the links that are to run by themselves by a time, except those that are paused, and keeps other
// processes from taking them until the transaction ends.
func Due(ctx context.Context, tx *db.Tx, by time.Time, limit int) (all []Link, err error) {
	paused := `SELECT n.id FROM interfaces n WHERE n.removed_at IS NOT NULL OR ` + connectionstore.Paused("n")
	err = tx.DB.Raw(`SELECT * FROM score_links WHERE ended_at IS NULL AND paused_at IS NULL AND next_at <= @by
		AND source_interface_id NOT IN (`+paused+`) AND book_interface_id NOT IN (`+paused+`)
		ORDER BY next_at, id LIMIT @limit FOR UPDATE SKIP LOCKED`,
		map[string]any{"by": by, "limit": limit}).Find(&all).Error
	return all, db.Known(err, "finding the score links that are due")
}

// Reschedule keeps when a link runs next by itself.
func Reschedule(ctx context.Context, tx *db.Tx, id string, next *time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE score_links SET next_at = $2 WHERE id = $1`, id, next)
	return db.Known(err, "keeping when the score link runs next")
}

// Notice lets the links that run by themselves and whose source is of a connection look for scores at a time, unless
// they do so earlier. interfaceID is of any interface of the connection.
func Notice(ctx context.Context, tx *db.Tx, interfaceID string, at, next time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE score_links SET noticed_at = $2, next_at = least(next_at, $3)
		WHERE ended_at IS NULL AND paused_at IS NULL AND ran_at IS NOT NULL AND next_at IS NOT NULL
		AND source_interface_id IN (SELECT n.id FROM interfaces n JOIN interfaces told
			ON told.connection_id = n.connection_id WHERE told.id = $1 AND n.removed_at IS NULL)`, interfaceID, at, next)
	return db.Known(err, "noting that scores became final")
}

// FreeItems lets other links write the line items of one that has ended.
func FreeItems(ctx context.Context, tx *db.Tx, linkID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE score_items SET book_item = '' WHERE link_id = $1`, linkID)
	return db.Known(err, "ending the score link")
}

// PointItems links the line items of a link, which is pointed to another book, to nothing there yet. What was
// carried is the former book's, and the first run into the new one is by hand again.
func PointItems(ctx context.Context, tx *db.Tx, l Link, sections []Section) error {
	for _, sql := range []string{
		`DELETE FROM score_carried WHERE item_id IN (SELECT id FROM score_items WHERE link_id = $1)`,
		`DELETE FROM score_decisions WHERE item_id IN (SELECT id FROM score_items WHERE link_id = $1)`,
		`UPDATE score_links SET ran_at = NULL, compared_at = NULL, counts = '{}', reasons = '[]', not_ready = 0,
			last_failed = false, trouble = '', trouble_code = '' WHERE id = $1`,
	} {
		if _, err := db.Exec(ctx, tx, sql, l.ID); err != nil {
			return db.Known(err, "pointing the score link elsewhere")
		}
	}
	_, err := db.Exec(ctx, tx, `UPDATE score_items SET book_interface = $2, book_item = '', made = false, category = '',
		period = '' WHERE link_id = $1`, l.ID, l.BookInterfaceID)
	for _, x := range sections {
		if err == nil {
			_, err = db.Exec(ctx, tx, `UPDATE score_link_sections SET book_class = $3 WHERE link_id = $1
				AND section_id = $2`, l.ID, x.SectionID, x.BookClass)
		}
	}
	return db.Known(err, "pointing the score link elsewhere")
}

// Active gives the links whose run is queued or at work.
func Active(ctx context.Context, from db.From) (map[string]bool, error) {
	return db.Map[string, bool](ctx, from, "listing what is being carried", `SELECT DISTINCT score_link_id::text AS key,
		true AS value FROM runs WHERE score_link_id IS NOT NULL AND state IN ('queued', 'running')`)
}

// Noted is a link about which there may be something to say, with its title.
type Noted struct {
	ID, Title, Book      string
	Reasons              []grade.Reasons `gorm:"serializer:json"`
	NotReady             int
	Mismatches           int
	OldestDraft          *time.Time
	LastFailed           bool
	LastRunID            string
	Trouble, TroubleCode string
}

// linkNames gives links their titles and the names of their books.
const linkNames = `l.id::text, coalesce(t.name, (SELECT min(f.title) FROM score_link_sections x JOIN section_facts f
		ON f.section_id = x.section_id WHERE x.link_id = l.id), '') AS title, n.name AS book`

// namedLinks are the links that have not ended, with what linkNames asks for.
const namedLinks = ` FROM score_links l JOIN interfaces n ON n.id = l.book_interface_id
	LEFT JOIN linked_sets t ON t.id = l.set_id WHERE l.ended_at IS NULL`

// NamedLink is what a link is called.
type NamedLink struct{ ID, Title, Book string }

// LinkNames says what the links are called that have not ended.
func LinkNames(ctx context.Context, from db.From) ([]NamedLink, error) {
	return db.Rows[NamedLink](ctx, from, "naming score links", `SELECT `+linkNames+namedLinks+` ORDER BY 2, 1`)
}

// Noteworthy lists the links that have not ended and of which something was noticed when they were compared or run
// last.
func Noteworthy(ctx context.Context, from db.From) ([]Noted, error) {
	return db.Rows[Noted](ctx, from, "finding what there is to say about scores", `
		SELECT `+linkNames+`, l.reasons, l.not_ready, coalesce((l.counts ->> 'mismatches')::int, 0) AS mismatches,
			l.oldest_draft, l.last_failed, coalesce(l.last_run_id::text, '') AS last_run_id, l.trouble, l.trouble_code
		`+namedLinks+`
			AND (l.reasons <> '[]' OR l.not_ready > 0 OR l.last_failed OR l.trouble <> ''
			OR coalesce((l.counts ->> 'mismatches')::int, 0) > 0)
		ORDER BY 2, 1`)
}
