package api

import "time"

// TaughtSection is a section that whoever asks teaches, as they have arranged it.
type TaughtSection struct {
	Section
	Own       string `json:"own" doc:"Id of the section that is theirs, by which it is asked about; of a linked set, the first of theirs"`
	ShortName string `json:"shortName,omitempty" doc:"What they call it; nobody else sees that"`
	Picture   bool   `json:"picture" doc:"They have given it a picture"`
	Current   bool   `json:"current" doc:"It has not ended"`
	Missing   int    `json:"missing" doc:"People who are not in the class outside until somebody does something"`
	Waiting   int    `json:"waiting" doc:"People who come in by themselves, or when the class is opened"`
	Held      bool   `json:"held" doc:"Learners wait until the teacher opens the class"`
	Tasks     int    `json:"tasks" doc:"Those that are open, without what was handed on"`
	Percent   *int   `json:"percent,omitempty" doc:"How far its learners have come on average, of those who have begun"`
}

// TaughtSectionPage is one of them with who is missing and what is set up elsewhere.
type TaughtSectionPage struct {
	TaughtSection
	People    []MissingPerson `json:"people" doc:"Who is not in the class outside by the latest comparison, those first for whom somebody has to do something"`
	Scores    []SectionScores `json:"scores" doc:"Where its scores are carried"`
	Elsewhere []Elsewhere     `json:"elsewhere" doc:"What is not set up, or done by others, and whom to ask"`
	Compared  *time.Time      `json:"comparedAt,omitempty"`
}

// MissingPerson is somebody who is not in a class outside.
type MissingPerson struct {
	PersonID string     `json:"personId,omitempty"`
	Name     string     `json:"name"`
	Code     string     `json:"reason"`
	Says     string     `json:"says" doc:"Why, in words for teachers"`
	Ask      string     `json:"ask" doc:"Who can mend it"`
	Waiting  bool       `json:"waiting" doc:"Nobody has to be asked"`
	Since    *time.Time `json:"since,omitempty"`
	Task     *Task      `json:"task,omitempty" doc:"What the teacher handed on about them the last time"`
}

// SectionScores is a score link of a section.
type SectionScores struct {
	ID     string `json:"id"`
	Source string `json:"source"`
	Book   string `json:"book"`
}

// Elsewhere is something that whoever asks does not do themselves.
type Elsewhere struct {
	What string   `json:"what"`
	Ask  []string `json:"ask" doc:"Names and addresses of whom to ask"`
}

// SectionName is what a teacher calls a section.
type SectionName struct {
	ShortName string `json:"shortName" maxLength:"60" doc:"Empty for its title"`
}

// SectionOrder is in which order a teacher's sections stand.
type SectionOrder struct {
	Sections []string `json:"sections" maxItems:"500" doc:"Ids; others stand behind them"`
}

// NewHanding hands a difference to whoever can mend it.
type NewHanding struct {
	PersonID string `json:"personId"`
	Note     string `json:"note,omitempty" maxLength:"2000" doc:"What they should know"`
}

// TaskAnswer is what somebody says who has done a task.
type TaskAnswer struct {
	Answer string `json:"answer,omitempty" maxLength:"2000" doc:"Whoever handed it on sees that"`
}
