// Package jobs names the kinds of background work and what each needs to know.
package jobs

import (
	"time"

	"github.com/riverqueue/river"
)

// Queues, so that long reads and runs never hold up what people wait for.
const (
	QueueRuns      = "runs"
	QueueByHand    = "by-hand" // runs for which somebody waits
	QueueReactions = "reactions"
)

// ReadRegister reads a register into the mirror.
type ReadRegister struct {
	RunID string `json:"runId"`
}

// Kind names the job.
func (ReadRegister) Kind() string { return "read-register" }

// InsertOpts chooses the queue. A run records its own failure; the job is tried
// again only when the process died.
func (ReadRegister) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueRuns, MaxAttempts: 10}
}

// ApplyRun carries out a run of a pairing.
type ApplyRun struct {
	RunID  string `json:"runId"`
	ByHand bool   `json:"byHand,omitempty"` // somebody waits for it
}

// Kind names the job.
func (ApplyRun) Kind() string { return "apply-run" }

// InsertOpts chooses the queue.
func (j ApplyRun) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queue(j.ByHand), MaxAttempts: 10}
}

// CarryScores carries out a run of a score link.
type CarryScores struct {
	RunID  string `json:"runId"`
	ByHand bool   `json:"byHand,omitempty"` // somebody waits for it
}

// Kind names the job.
func (CarryScores) Kind() string { return "carry-scores" }

// InsertOpts chooses the queue.
func (j CarryScores) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queue(j.ByHand), MaxAttempts: 10}
}

// LookForScores reads the gradebooks of score links that are due, compares, and starts runs where there is something
// to carry.
type LookForScores struct {
	LinkIDs []string `json:"linkIds"`
}

// Kind names the job.
func (LookForScores) Kind() string { return "look-for-scores" }

// InsertOpts chooses the queue.
func (LookForScores) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueRuns, MaxAttempts: 4}
}

// React matches rules against events and makes deliveries.
type React struct {
	EventIDs []string `json:"eventIds"`
	RuleID   string   `json:"ruleId,omitempty"` // only this rule, which catches up
}

// Kind names the job.
func (React) Kind() string { return "react" }

// InsertOpts chooses the queue.
func (React) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: QueueReactions} }

// WorkAsked compares every pairing with an interface for which that was asked, and
// starts runs where something has to be done.
type WorkAsked struct {
	InterfaceID string `json:"interfaceId"`
}

// Kind names the job.
func (WorkAsked) Kind() string { return "work-asked" }

// InsertOpts chooses the queue.
func (WorkAsked) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueRuns, MaxAttempts: 20}
}

// RunPairing brings a pairing in step without anybody watching.
type RunPairing struct {
	PairingID string `json:"pairingId"`
	Who       string `json:"who"`              // who or what asked for it
	ByHand    bool   `json:"byHand,omitempty"` // somebody waits for it
}

// Kind names the job.
func (RunPairing) Kind() string { return "run-pairing" }

// InsertOpts chooses the queue.
func (j RunPairing) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queue(j.ByHand), MaxAttempts: 4}
}

// queue keeps what somebody waits for from standing behind a night's work.
func queue(byHand bool) string {
	if byHand {
		return QueueByHand
	}
	return QueueRuns
}

// CarryOutBatch does what a batch shows, one item after the other.
type CarryOutBatch struct {
	BatchID string `json:"batchId"`
}

// Kind names the job.
func (CarryOutBatch) Kind() string { return "carry-out-batch" }

// InsertOpts chooses the queue: somebody waits for it.
func (CarryOutBatch) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueByHand, MaxAttempts: 20}
}

// AskNeeds asks services whether what rules need there exists.
type AskNeeds struct {
	RuleID string `json:"ruleId,omitempty"` // only this rule
}

// Kind names the job.
func (AskNeeds) Kind() string { return "ask-needs" }

// Propose looks anew for second accounts and test learners in a register, and for people whom other registers have
// too.
type Propose struct {
	InterfaceID string `json:"interfaceId"`
}

// Kind names the job.
func (Propose) Kind() string { return "propose" }

// MovePeople moves what came to name people who were merged while they were being merged.
type MovePeople struct{}

// Kind names the job.
func (MovePeople) Kind() string { return "move-people" }

// Tick starts whatever is due by the clock.
type Tick struct{}

// Kind names the job.
func (Tick) Kind() string { return "tick" }

// TakeWaiting takes in what of a set-up waited for a register.
type TakeWaiting struct{}

// Kind names the job.
func (TakeWaiting) Kind() string { return "take-waiting" }

// InsertOpts chooses the queue.
func (TakeWaiting) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: QueueReactions} }

// ResolveStatements looks again at statements about people or activities that were
// not known when they came.
type ResolveStatements struct{}

// Kind names the job.
func (ResolveStatements) Kind() string { return "resolve-statements" }

// InsertOpts chooses the queue.
func (ResolveStatements) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 10}
}

// PassTime looks at what time passing brings about: people who stopped, access that
// ends.
type PassTime struct{}

// Kind names the job.
func (PassTime) Kind() string { return "pass-time" }

// TendHistory makes room for what is to come, and removes what is kept long enough.
type TendHistory struct{}

// Kind names the job.
func (TendHistory) Kind() string { return "tend-history" }

// SettleAccess works out anew what an offer gives and takes or, for an empty id, what
// has changed by itself, as after a read.
type SettleAccess struct {
	OfferID string `json:"offerId,omitempty"`
}

// Kind names the job.
func (SettleAccess) Kind() string { return "settle-access" }

// InsertOpts chooses the queue.
func (SettleAccess) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 20}
}

// RecountCourse works progress in a course out by its present outline and, for some people
// or (Everybody) all, what they reached in other sections of the course. An empty course is
// every course.
type RecountCourse struct {
	CourseID  string   `json:"courseId"`
	People    []string `json:"people,omitempty"`
	Everybody bool     `json:"everybody,omitempty"`
}

// Kind names the job.
func (RecountCourse) Kind() string { return "recount-course" }

// InsertOpts chooses the queue.
func (RecountCourse) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 20}
}

// SendLinks sends links to the pages of their badges to whoever is known by an address.
type SendLinks struct {
	Address string `json:"address"`
}

// Kind names the job.
func (SendLinks) Kind() string { return "send-links" }

// InsertOpts chooses the queue.
func (SendLinks) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 5}
}

// SendReport sends a report to one recipient of a mail.
type SendReport struct {
	MailID string    `json:"mailId"`
	DueAt  time.Time `json:"dueAt"`
	To     string    `json:"to"`
	ByHand bool      `json:"byHand,omitempty"` // somebody asked for it: it goes out while the mail is paused too
}

// Kind names the job.
func (SendReport) Kind() string { return "send-report" }

// InsertOpts chooses the queue.
func (SendReport) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 8}
}

// WorkProof carries a proof out, or reverts it.
type WorkProof struct {
	ProofID string `json:"proofId"`
	Anyway  bool   `json:"anyway,omitempty"` // it ends even where something cannot be reverted
}

// Kind names the job.
func (WorkProof) Kind() string { return "work-proof" }

// InsertOpts chooses the queue.
func (WorkProof) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 5}
}

// CheckProgress compares kept progress with what is recorded, or counts it anew.
type CheckProgress struct {
	Mend bool `json:"mend,omitempty"`
}

// Kind names the job.
func (CheckProgress) Kind() string { return "check-progress" }

// InsertOpts chooses the queue.
func (CheckProgress) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 5}
}

// WorkOutStages works out how far everybody has come in a stage plan or, without one,
// how far some people have come in those that are about courses or badges.
type WorkOutStages struct {
	StagePlanID string   `json:"stagePlanId,omitempty"`
	People      []string `json:"people,omitempty"`
	Courses     []string `json:"courses,omitempty"`
	Badges      []string `json:"badges,omitempty"`
}

// Kind names the job.
func (WorkOutStages) Kind() string { return "work-out-stages" }

// InsertOpts chooses the queue.
func (WorkOutStages) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueReactions, MaxAttempts: 20}
}

// ReadAll starts a read of every register that is not paused.
type ReadAll struct{}

// Kind names the job.
func (ReadAll) Kind() string { return "read-all" }
