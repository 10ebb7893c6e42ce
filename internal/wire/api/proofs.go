package api

import "time"

// NewProof is a proof to start.
type NewProof struct {
	Section string `json:"section" doc:"Id of the section"`
	Module  string `json:"module,omitempty" doc:"Id of the module that is finished; the first one that counts when absent"`
	Person  string `json:"person,omitempty" doc:"Id or identifier of a test learner whom the register has in the section; absent to let one be made"`
	Email   string `json:"email,omitempty" doc:"Address of the one who is made: mails go there"`
}

// Proof is a test learner's way through a section.
type Proof struct {
	ID        string      `json:"id"`
	SectionID string      `json:"sectionId"`
	Section   string      `json:"section"`
	PersonID  string      `json:"personId"`
	Learner   string      `json:"learner" doc:"Name of the test learner"`
	Address   string      `json:"address"`
	Made      bool        `json:"made" doc:"The test learner was made for it; else the register has them"`
	State     string      `json:"state" enum:"running,done,reverting,reverted" doc:"done: every step was tried; rules may still be at work"`
	Steps     []ProofStep `json:"steps" doc:"As they are now or, when it is being reverted or was, as they were before"`
	Remains   []string    `json:"remains" doc:"What was not reverted, or cannot be"`
	StartedBy string      `json:"startedBy"`
	StartedAt time.Time   `json:"startedAt"`
	DoneAt    *time.Time  `json:"doneAt,omitempty" doc:"When every step had been tried"`
	EndedAt   *time.Time  `json:"endedAt,omitempty" doc:"When it was reverted"`
}

// ProofStep is one thing that was to happen to a test learner.
type ProofStep struct {
	Kind   string     `json:"kind" enum:"join,class,module,rule,badge,message,score"`
	Title  string     `json:"title" doc:"Of the section, class, module, rule or gradebook"`
	Where  string     `json:"where,omitempty" doc:"Service at which it was to arrive"`
	State  string     `json:"state" enum:"arrived,waits,not-set-up,skipped,failed"`
	Detail string     `json:"detail,omitempty"`
	Link   string     `json:"link,omitempty" doc:"Page of the console about it"`
	At     *time.Time `json:"at,omitempty"`
}

// TestLearners says with whom and on what a proof of a section can be started.
type TestLearners struct {
	Learners []TestLearner `json:"learners" doc:"Those whom the register has in the section"`
	Modules  []ProofModule `json:"modules" doc:"Of the course"`
	Under    string        `json:"under,omitempty" doc:"Id of the proof that is under way there"`
}

// TestLearner is one whom the register has.
type TestLearner struct {
	ID         string `json:"id"`
	Name       string `json:"name"`
	Email      string `json:"email"`
	Identifier string `json:"identifier"`
}

// ProofModule is a module that can be finished.
type ProofModule struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

// EndProof says how a proof is reverted.
type EndProof struct {
	Anyway bool `json:"anyway,omitempty" doc:"Let it end even where something cannot be reverted now; it was tried before"`
}
