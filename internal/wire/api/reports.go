package api

import (
	"time"

	"kanban/internal/core/schedule"
)

// ReportKind is a report that can be asked for.
type ReportKind struct {
	Name  string   `json:"name" doc:"By which it is asked for"`
	Title string   `json:"title"`
	About string   `json:"about" doc:"What it shows"`
	Takes []string `json:"takes" doc:"What it can be narrowed and set by"`
}

// MadeReport is what people read about many.
type MadeReport struct {
	Name    string         `json:"name"`
	Title   string         `json:"title"`
	Scope   []string       `json:"scope" doc:"To what it is narrowed, in words"`
	MadeAt  time.Time      `json:"madeAt"`
	Sources []ReportSource `json:"sources" doc:"What was read for it"`
	Summary []string       `json:"summary" doc:"What there is to see, in sentences"`
	Parts   []ReportPart   `json:"parts"`
	Remarks []string       `json:"remarks" doc:"What is left out, and why"`
}

// ReportSource is something that was read for a report.
type ReportSource struct {
	Name   string     `json:"name"`
	ReadAt *time.Time `json:"readAt,omitempty" doc:"Absent when it was never read"`
}

// ReportPart is a table of a report with its chart.
type ReportPart struct {
	Title   string         `json:"title"`
	Empty   string         `json:"empty" doc:"What to say when there are no rows"`
	Columns []ReportColumn `json:"columns"`
	Rows    [][]any        `json:"rows" doc:"A text, a number, a time of RFC 3339 or null for each column"`
	Total   int            `json:"total" doc:"How many rows there are; the files hold all"`
	Chart   *ReportChart   `json:"chart,omitempty"`
}

// ReportColumn is a column of a report.
type ReportColumn struct {
	Title string `json:"title"`
	Unit  string `json:"unit" enum:"text,count,share,days,time,day,milliseconds" doc:"What its values are; a share is one of 1"`
}

// ReportChart is a chart of a report.
type ReportChart struct {
	Kind   string         `json:"kind" enum:"bars,lines"`
	Labels []string       `json:"labels"`
	Series []ReportSeries `json:"series" doc:"Bars are of the series put end to end"`
}

// ReportSeries are the values of one thing, one for each label.
type ReportSeries struct {
	Title  string    `json:"title"`
	Tone   string    `json:"tone" enum:"done,open,bad,rest,second" doc:"What it means, for its colour"`
	Values []float64 `json:"values"`
}

// NewReportMail is a report that is to be sent by the clock.
type NewReportMail struct {
	Report     string            `json:"report" doc:"Its name"`
	Narrowed   map[string]string `json:"narrowed,omitempty" doc:"By what it is narrowed and set, as when it is asked for"`
	Form       string            `json:"form" enum:"pdf,xlsx,csv,png,svg" doc:"As what it is sent"`
	Schedule   schedule.Schedule `json:"schedule" doc:"Daily, at a time of day, on some days or every day"`
	Recipients []string          `json:"recipients" minItems:"1" maxItems:"50" doc:"E-mail addresses"`
	Paused     bool              `json:"paused,omitempty"`
}

// ReportMail is a report that is sent by the clock.
type ReportMail struct {
	NewReportMail
	ID      string       `json:"id"`
	Title   string       `json:"title" doc:"The report's"`
	MadeBy  string       `json:"madeBy"`
	NextAt  *time.Time   `json:"nextAt,omitempty" doc:"When it is sent next; absent while it is paused"`
	Last    []SentReport `json:"last" doc:"What became of the latest mails"`
	Version int          `json:"version"`
}

// SentReport is what became of a mail.
type SentReport struct {
	To      string     `json:"to"`
	DueAt   time.Time  `json:"dueAt"`
	SentAt  *time.Time `json:"sentAt,omitempty" doc:"Absent while the mail server has not taken it"`
	Trouble string     `json:"trouble,omitempty" doc:"Why it has not"`
}

// ProgressCheck is what comparing the progress that is kept with what is recorded found.
type ProgressCheck struct {
	NextAt    *time.Time `json:"nextAt,omitempty" doc:"When it is done next by itself"`
	StartedAt *time.Time `json:"startedAt,omitempty" doc:"Since when it is being done"`
	EndedAt   *time.Time `json:"endedAt,omitempty" doc:"When it was done last; absent when never"`
	Checked   int        `json:"checked" doc:"People in sections whose progress was looked at"`
	Wrong     int        `json:"wrong" doc:"Of them it differed"`
	Mended    bool       `json:"mended" doc:"What differed was set right"`
	Courses   []string   `json:"courses,omitempty" doc:"Titles of the courses in which it differed"`
	Trouble   string     `json:"trouble,omitempty" doc:"Why it could not be done the last time; it is tried again a few times"`
}

// StartProgressCheck says how kept progress is compared.
type StartProgressCheck struct {
	Mend bool `json:"mend,omitempty" doc:"Set right what differs; nobody hears of it by an event"`
}
