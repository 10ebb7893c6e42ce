package api

import "time"

// History is for how long what happened is kept.
type History struct {
	Months int            `json:"months" doc:"For how many whole months; 0 for ever"`
	Kept   []HistoryMonth `json:"kept" doc:"What there is, the oldest first"`
}

// HistoryMonth is what is kept of one month.
type HistoryMonth struct {
	Month  string     `json:"month" doc:"Year and month, UTC"`
	Events int64      `json:"events" doc:"How many; about, when they are many"`
	Bytes  int64      `json:"bytes" doc:"Of events and attempts, in the database"`
	GoesAt *time.Time `json:"goesAt,omitempty" doc:"When it is removed; absent for never"`
}

// HistoryEdit changes for how long what happened is kept.
type HistoryEdit struct {
	Months int `json:"months" minimum:"0" doc:"For how many whole months; 0 for ever"`
	Gone   int `json:"gone" minimum:"0" doc:"How many months go at once by this, which cannot be undone; anything else than the true number is refused"`
}
