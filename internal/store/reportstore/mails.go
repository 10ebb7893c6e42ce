package reportstore

import (
	"context"
	"time"

	"kanban/internal/core/schedule"
	"kanban/internal/store/db"
)

// ReportMail is a report that is sent by mail by the clock.
type ReportMail struct {
	ID         string
	Report     string
	Ask        map[string]string `gorm:"serializer:json"` // to what it is narrowed, by field
	Form       string            // pdf, xlsx, csv, png or svg
	Schedule   schedule.Schedule `gorm:"serializer:json"`
	Recipients []string          `gorm:"serializer:json"`
	MadeBy     string
	CreatedAt  time.Time
	NextAt     time.Time
	PausedAt   *time.Time
	Version    int
}

// SentReport is what became of a mail with a report.
type SentReport struct {
	MailID    string
	DueAt     time.Time
	Recipient string
	SentAt    *time.Time // nil while the mail server has not taken it
	Trouble   string     // why it has not
}

// ReportMails lists them, the one that is due next first.
func ReportMails(ctx context.Context, from db.From) (all []ReportMail, err error) {
	err = from.Records(ctx).Order("paused_at IS NOT NULL, next_at, id").Find(&all).Error
	return all, db.Known(err, "listing mails of reports")
}

// FindReportMail finds one.
func FindReportMail(ctx context.Context, from db.From, id string) (m ReportMail, err error) {
	err = from.Records(ctx).Where("id::text = ?", id).First(&m).Error
	return m, db.Known(err, "finding the mail of a report")
}

// EditReportMail keeps one as it is to be; its version is the one that was read.
func EditReportMail(ctx context.Context, tx *db.Tx, m ReportMail) error {
	done := tx.DB.WithContext(ctx).Model(&ReportMail{}).Where("id = ? AND version = ?", m.ID, m.Version).
		Select("ask", "form", "schedule", "recipients", "next_at", "paused_at", "version").
		Updates(ReportMail{
			Ask: m.Ask, Form: m.Form, Schedule: m.Schedule, Recipients: m.Recipients, NextAt: m.NextAt,
			PausedAt: m.PausedAt,
			Version:  m.Version + 1,
		})
	if done.Error == nil && done.RowsAffected == 0 {
		return db.Known(db.ErrStale, "changing the mail of a report")
	}
	return db.Known(done.Error, "changing the mail of a report")
}

// RemoveReportMail removes one.
func RemoveReportMail(ctx context.Context, tx *db.Tx, id string) error {
	n, err := db.Exec(ctx, tx, `DELETE FROM report_mails WHERE id::text = $1`, id)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, "removing the mail of a report")
}

// DueReportMails locks those that are due and that nobody else is at.
func DueReportMails(ctx context.Context, tx *db.Tx, at time.Time, limit int) ([]ReportMail, error) {
	return db.Rows[ReportMail](ctx, tx, "finding reports that are due", `SELECT id::text, report, ask, form, schedule,
		recipients, made_by, created_at, next_at, paused_at, version FROM report_mails
		WHERE paused_at IS NULL AND next_at <= $1 ORDER BY next_at, id LIMIT $2 FOR UPDATE SKIP LOCKED`, at, limit)
}

// Postpone says when a mail is due next.
func Postpone(ctx context.Context, tx *db.Tx, id string, next time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE report_mails SET next_at = $2 WHERE id = $1`, id, next)
	return db.Known(err, "saying when a report is due next")
}

// NoteSent keeps what became of a mail. One that was sent stays so.
func NoteSent(ctx context.Context, to db.From, s SentReport) error {
	_, err := db.Exec(ctx, to, `INSERT INTO report_mails_sent (mail_id, due_at, recipient, sent_at, trouble)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (mail_id, due_at, recipient) DO UPDATE
		SET sent_at = excluded.sent_at, trouble = excluded.trouble WHERE report_mails_sent.sent_at IS NULL`,
		s.MailID, s.DueAt, s.Recipient, s.SentAt, s.Trouble)
	return db.Known(err, "keeping what became of a mail")
}

// LastSent lists what became of the latest mails of each, the latest first.
func LastSent(ctx context.Context, from db.From) ([]SentReport, error) {
	return db.Rows[SentReport](ctx, from, "listing what became of mails", `SELECT s.mail_id::text, s.due_at, s.recipient,
		s.sent_at, s.trouble FROM report_mails m JOIN LATERAL (SELECT * FROM report_mails_sent x WHERE x.mail_id = m.id
			AND x.due_at = (SELECT max(due_at) FROM report_mails_sent y WHERE y.mail_id = m.id)) s ON true
		ORDER BY s.due_at DESC, s.mail_id, s.recipient`)
}

// WasSent reports whether a mail was sent to somebody.
func WasSent(ctx context.Context, from db.From, mailID string, due time.Time, recipient string) (sent bool,
	err error,
) {
	err = db.Into(ctx, from, &sent, `SELECT EXISTS (SELECT 1 FROM report_mails_sent WHERE mail_id = $1 AND due_at = $2
		AND recipient = $3 AND sent_at IS NOT NULL)`, mailID, due, recipient)
	return sent, db.Known(err, "looking whether it was sent")
}

// ForgetSent drops what became of mails that were due before a time.
func ForgetSent(ctx context.Context, to db.From, before time.Time) error {
	_, err := db.Exec(ctx, to, `DELETE FROM report_mails_sent WHERE due_at < $1`, before)
	return db.Known(err, "forgetting what became of mails")
}
