package api

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/schedule"
)

// GradebookClass is a class of a gradebook.
type GradebookClass struct {
	ID          string `json:"id" doc:"As the gradebook calls it"`
	Title       string `json:"title,omitempty" doc:"Of the section with this id in a register"`
	Assignments int    `json:"assignments"`
	Scores      int    `json:"scores"`
}

// FlagRule says what becomes of a score with a flag.
type FlagRule struct {
	Value string `json:"value" enum:"keep,zero,blank" doc:"What becomes of its value"`
	Drop  bool   `json:"drop,omitempty" doc:"The flag itself is not carried, although the book could hold it"`
}

// ScorePolicy is what was set once for a score link, for all its sections.
type ScorePolicy struct {
	Mode            string              `json:"mode" enum:"fill-and-update,blanks-only,replace" doc:"What happens with values that differ: blanks are filled and what was carried before is updated; only blanks are filled; the source's value replaces the book's"`
	Content         string              `json:"content" enum:"scores,completions,nothing" doc:"What is carried: scores, only that it was done, or only the assignments themselves"`
	Comments        bool                `json:"comments" doc:"Comments that learners see at the source are carried too"`
	Flags           map[string]FlagRule `json:"flags,omitempty" doc:"By flag: exempt, missing, late, incomplete, not submitted; the usual ones when absent"`
	Category        string              `json:"category,omitempty" doc:"The book's category for assignments that have none there: its id, or its title when that is one category's only"`
	Categories      map[string]string   `json:"categories,omitempty" doc:"The book's categories by the source's, as ids or titles; matched by name when absent"`
	Template        string              `json:"template,omitempty" doc:"Name of the template that says what is expected; that of the organisation when absent"`
	MakesCategories bool                `json:"makesCategories" doc:"Categories that the book lacks are made there, once"`
	PeriodKind      string              `json:"periodKind,omitempty" doc:"Which kind of session of the register counts; gradingPeriod when absent"`
	Basis           string              `json:"basis" enum:"due,assigned" doc:"Which date says in which period an assignment is"`
	WithoutPoints   bool                `json:"withoutPoints" doc:"Assignments that are worth no points are carried"`
	Schedule        schedule.Schedule   `json:"schedule,omitzero"`
}

// NewScoreLink makes a score link, of a section or of a linked set.
type NewScoreLink struct {
	SectionID         string            `json:"sectionId,omitempty"`
	SetID             string            `json:"setId,omitempty" doc:"A linked set instead of a section"`
	SourceInterfaceID string            `json:"sourceInterfaceId" doc:"The gradebook in which work is marked"`
	SourceClass       string            `json:"sourceClass" doc:"The class there, as that gradebook calls it"`
	BookInterfaceID   string            `json:"bookInterfaceId" doc:"The book of record"`
	BookClasses       map[string]string `json:"bookClasses,omitempty" doc:"The book's class of a section, by id of the section; the register's id of the section when absent"`
	Policy            *ScorePolicy      `json:"policy,omitempty" doc:"As the template says when absent"`
	Template          string            `json:"template,omitempty" doc:"Name of a template; that of the organisation when absent, the usual one when there is none"`
	Anyway            bool              `json:"anyway,omitempty" doc:"Make it although both sides have few people in common"`
}

// ScoreOverlap is what a section's class has in common with the source.
type ScoreOverlap struct {
	SectionID  string `json:"sectionId"`
	Section    string `json:"section"`
	BookClass  string `json:"bookClass"`
	Both       int    `json:"both" doc:"Learners in both"`
	SourceOnly int    `json:"sourceOnly" doc:"People with scores at the source who are in none of the sections"`
	BookOnly   int    `json:"bookOnly" doc:"Learners of the section without a score at the source"`
	Items      int    `json:"items" doc:"Assignments of the same title in both"`
	OtherItems int    `json:"otherItems" doc:"Assignments that only the source has"`
	Poor       bool   `json:"poor" doc:"So little in common that it is probably the wrong class"`
}

// ScoreLinkSection is a section of a score link.
type ScoreLinkSection struct {
	ID        string `json:"id"`
	Title     string `json:"title"`
	Code      string `json:"code"`
	BookClass string `json:"bookClass"`
}

// ScoreReason is how many scores one reason holds.
type ScoreReason struct {
	Code    finding.Code `json:"code"`
	Title   string       `json:"title"`
	Remedy  string       `json:"remedy"`
	Owner   string       `json:"owner"`
	Outcome string       `json:"outcome"`
	Scores  int          `json:"scores"`
	Items   int          `json:"items" doc:"Assignments"`
}

// ScoreLink carries scores from where work is marked to the book of record.
type ScoreLink struct {
	ID                string             `json:"id"`
	Title             string             `json:"title" doc:"Of its section or linked set"`
	SetID             string             `json:"setId,omitempty"`
	Sections          []ScoreLinkSection `json:"sections"`
	SourceInterfaceID string             `json:"sourceInterfaceId"`
	Source            string             `json:"source"`
	SourceClass       string             `json:"sourceClass"`
	BookInterfaceID   string             `json:"bookInterfaceId"`
	Book              string             `json:"book"`
	SourceFiles       bool               `json:"sourceFiles,omitempty" doc:"The source is read from packages that are uploaded"`
	BookFiles         bool               `json:"bookFiles,omitempty" doc:"The book takes packages that are downloaded here, and is read from ones that are uploaded"`
	Policy            ScorePolicy        `json:"policy"`
	State             string             `json:"state" enum:"never-run,in-step,to-carry,needs-person,carrying,failed,paused,ended,unknown" doc:"By the latest comparison; unknown when that did not come about"`
	Counts            map[string]int     `json:"counts" doc:"Scores by outcome, as compared last"`
	Reasons           []ScoreReason      `json:"reasons" doc:"Why scores are not simply in step"`
	NotReady          int                `json:"notReady" doc:"Assignments that cannot be carried yet"`
	ComparedAt        *time.Time         `json:"comparedAt,omitempty"`
	RanAt             *time.Time         `json:"ranAt,omitempty"`
	NextRun           *time.Time         `json:"nextRun,omitempty"`
	LastRunID         string             `json:"lastRunId,omitempty"`
	Trouble           string             `json:"trouble,omitempty" doc:"Why the latest comparison did not come about"`
	TroubleCode       finding.Code       `json:"troubleCode,omitempty"`
	Remedy            string             `json:"remedy,omitempty" doc:"What to do about that"`
	Paused            bool               `json:"paused"`
	Ended             bool               `json:"ended"`
	MadeBy            string             `json:"madeBy"`
	Version           int                `json:"version"`
	Checklist         Checklist          `json:"checklist,omitzero" doc:"Not in lists"`
}

// EditScoreLink changes a score link; what is absent stays.
type EditScoreLink struct {
	SourceInterfaceID *string `json:"sourceInterfaceId,omitempty"`
	SourceClass       *string `json:"sourceClass,omitempty" doc:"Points it elsewhere; its history stays"`
	BookInterfaceID   *string `json:"bookInterfaceId,omitempty" doc:"Points it to another book, in which nothing is linked yet; what the one before has stays in it"`
	// BookClasses are those that change.
	BookClasses map[string]string `json:"bookClasses,omitempty" doc:"The book's classes by section, of those that change"`

	Policy *ScorePolicy `json:"policy,omitempty"`
	Paused *bool        `json:"paused,omitempty"`
}

// LineItem is an assignment as one side has it.
type LineItem struct {
	ID       string     `json:"id"`
	Title    string     `json:"title"`
	Due      *time.Time `json:"due,omitempty"`
	Assigned *time.Time `json:"assigned,omitempty"`
	Maximum  float64    `json:"maximum" doc:"Points that can be given"`
	Gone     bool       `json:"gone,omitempty"`
}

// ItemReason is why an assignment is not simply carried.
type ItemReason struct {
	Code     finding.Code `json:"code"`
	Title    string       `json:"title"`
	Remedy   string       `json:"remedy"`
	Owner    string       `json:"owner"`
	Severity string       `json:"severity"`
}

// Assignment is an assignment of the source in the book of one section.
type Assignment struct {
	ID               string         `json:"id"`
	Title            string         `json:"title"`
	SectionID        string         `json:"sectionId"`
	Section          string         `json:"section"`
	Source           LineItem       `json:"source"`
	Book             *LineItem      `json:"book,omitempty" doc:"That it is linked to; absent while there is none"`
	Made             bool           `json:"made,omitempty" doc:"By Kanban"`
	Outcome          string         `json:"outcome" enum:"not-ready,gone,left-out,made,linked" doc:"made: it is made with the next run"`
	Reasons          []ItemReason   `json:"reasons" doc:"Every reason why it is not ready"`
	Counts           map[string]int `json:"counts" doc:"Scores by outcome"`
	Final            int            `json:"final" doc:"Scores at the source that are final"`
	Drafts           int            `json:"drafts"`
	Partly           int            `json:"partly" doc:"Scores that are partly marked"`
	Unmarked         int            `json:"unmarked"`
	Flagged          int            `json:"flagged" doc:"Scores with something said beside them"`
	SourceCategory   string         `json:"sourceCategory,omitempty"`
	Category         string         `json:"category,omitempty" doc:"The book's"`
	CategoryEvidence string         `json:"categoryEvidence,omitempty" doc:"What says so: own (set for this assignment), chosen, same-name, before (as people did until now), made (it is made), default (of the score link), in-book (the line item is in it)"`
	Period           string         `json:"period,omitempty"`
	Content          string         `json:"content" enum:"scores,completions,nothing"`
	Basis            string         `json:"basis" enum:"due,assigned"`
	Activity         string         `json:"activity,omitempty" doc:"Id of the activity of the course's outline that it is"`
	ActivityTitle    string         `json:"activityTitle,omitempty"`
	Own              bool           `json:"own,omitempty" doc:"Something is set for it that differs from the score link"`
	LeftOut          string         `json:"leftOut,omitempty" doc:"Why it is left out"`
	LeftOutBy        string         `json:"leftOutBy,omitempty"`
	ChangedSince     bool           `json:"changedSince,omitempty" doc:"It is left out, and changed at the source since then"`
	Page             string         `json:"page,omitempty" doc:"Where it is marked"`
}

// EditAssignments changes many assignments at once; what is absent stays, an empty text takes the score link's.
type EditAssignments struct {
	IDs      []string `json:"ids" minItems:"1"`
	Content  *string  `json:"content,omitempty"`
	Basis    *string  `json:"basis,omitempty"`
	Category *string  `json:"category,omitempty" doc:"Id of a category of the book"`
	Period   *string  `json:"period,omitempty" doc:"Id of a session of the register"`
	Activity *string  `json:"activity,omitempty" doc:"Id of an activity of the course's outline: its score and a statement about it are one fact, and one event; empty for none"`
	LeftOut  *string  `json:"leftOut,omitempty" doc:"Why it is left out; empty to take it in again"`
}

// ScoreActivity is an activity of the outline that an assignment can be.
type ScoreActivity struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Module string `json:"module"`
}

// ScoreCounterpart is a line item of the book with the evidence that it is an assignment's.
type ScoreCounterpart struct {
	Item       LineItem `json:"item"`
	Score      int      `json:"score" doc:"0 to 100, the likelier the higher"`
	Title      float64  `json:"title" doc:"How alike the titles are, 0 to 1"`
	SameDay    bool     `json:"sameDay"`
	SamePoints bool     `json:"samePoints"`
	Equal      int      `json:"equal" doc:"People whose values agree"`
	Different  int      `json:"different" doc:"People whose values do not"`
	Linked     bool     `json:"linked" doc:"It is linked to another assignment already"`
}

// AssignmentLink links an assignment to a line item of the book.
type AssignmentLink struct {
	BookItem string `json:"bookItem" doc:"The book's id of it; empty to unlink"`
}

// ScoreMark is a score as one side has it.
type ScoreMark struct {
	Text    string `json:"text" doc:"As people read it, with its flags in brackets; – for none"`
	Comment string `json:"comment,omitempty"`
}

// ScoreEntry is what is to happen with one person's score.
type ScoreEntry struct {
	PersonID  string       `json:"personId,omitempty"`
	Who       string       `json:"who" doc:"The key of the entry: the person's id, or what a side calls somebody whom nobody knows"`
	Name      string       `json:"name"`
	Student   string       `json:"student,omitempty" doc:"What the source calls them, where nobody knows who that is"`
	Outcome   string       `json:"outcome" enum:"conflict,refused,withdrawn,new,update,replace,held,kept,unchanged,book-only"`
	Code      finding.Code `json:"code"`
	Was       ScoreMark    `json:"was" doc:"Carried last"`
	Theirs    ScoreMark    `json:"theirs" doc:"In the book now"`
	Ours      ScoreMark    `json:"ours" doc:"What would be carried, in the book's terms"`
	Given     ScoreMark    `json:"given" doc:"At the source, in its own terms"`
	Lost      []string     `json:"lost,omitempty" doc:"Flags that the book cannot hold"`
	Shortened bool         `json:"shortened,omitempty" doc:"The comment is cut"`
	Again     bool         `json:"again,omitempty" doc:"Work was handed in after it was marked"`
	Elsewhere string       `json:"elsewhere,omitempty" doc:"The section in which they are now"`
	// ElsewhereID is empty when that section is none of the score link's.
	ElsewhereID string `json:"elsewhereId,omitempty" doc:"Its id, when it is one of the score link's: the scores can go on there"`
}

// ScoreItemPlan is what is to happen with one assignment and each of its scores.
type ScoreItemPlan struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Section string `json:"section"`
	// PeriodID and Period are of the grading period in which it is.
	PeriodID string `json:"periodId,omitempty"`
	Period   string `json:"period,omitempty" doc:"Title of the grading period in which it is"`

	Outcome string         `json:"outcome" enum:"not-ready,gone,left-out,made,linked"`
	Reasons []finding.Code `json:"reasons"`
	Counts  map[string]int `json:"counts"`
	Entries []ScoreEntry   `json:"entries"`
}

// ScorePreview is what a run would do, score by score.
type ScorePreview struct {
	ID         string                      `json:"id"`
	LinkID     string                      `json:"linkId"`
	Items      []ScoreItemPlan             `json:"items"`
	Counts     map[string]int              `json:"counts" doc:"Scores by outcome; they add up to all of them"`
	Changes    int                         `json:"changes" doc:"Scores that a run would write"`
	Makes      int                         `json:"makes" doc:"Assignments that it would make"`
	RosterHeld int                         `json:"rosterHeld" doc:"Scores that wait because of who is in which section; the roster can be brought in step first"`
	Categories []string                    `json:"categories" doc:"Categories that it would make"`
	Losses     int                         `json:"losses" doc:"Values of the book that would be lost"`
	Reasons    []ScoreReason               `json:"reasons" doc:"Why scores are not carried or not in step, the most first"`
	Codes      map[finding.Code]ItemReason `json:"codes" doc:"What the codes mean"`
	Reverts    string                      `json:"reverts,omitempty" doc:"The run that it undoes"`
	SourceRead *time.Time                  `json:"sourceRead,omitempty"`
	BookRead   *time.Time                  `json:"bookRead,omitempty"`
	Unread     []UnreadRecords             `json:"unread" doc:"What could not be understood of either side; nothing is changed because of it"`
}

// UnreadRecords are records of a gradebook that could not be understood.
type UnreadRecords struct {
	Gradebook string         `json:"gradebook"`
	Count     int            `json:"count"`
	First     []UnreadRecord `json:"first" doc:"The first of them"`
}

// UnreadRecord is one of them.
type UnreadRecord struct {
	Collection string `json:"collection"`
	Position   int    `json:"position" doc:"Its place in what was read"`
	Problem    string `json:"problem"`
}

// NewScoreRun does what a preview shows.
type NewScoreRun struct {
	Approved bool     `json:"approved,omitempty" doc:"The values of the book that it loses were looked at"`
	Only     []string `json:"only,omitempty" doc:"Ids of assignments; all when absent"`
	// RosterFirst is about scores that wait because of who is in which section.
	RosterFirst bool `json:"rosterFirst,omitempty" doc:"The register is read and the paired classes are brought in step first, in the same run; scores that waited for it are carried too"`
}

// ScoreChange is one thing that a run did to the book.
type ScoreChange struct {
	What     string       `json:"what" enum:"roster,category,assignment,score"`
	ItemID   string       `json:"itemId,omitempty"`
	PersonID string       `json:"personId,omitempty"`
	Title    string       `json:"title" doc:"Of the assignment or the category"`
	Name     string       `json:"name,omitempty" doc:"Of the person"`
	Outcome  string       `json:"outcome"`
	State    string       `json:"state" enum:"pending,started,done,refused,not-arrived"`
	Before   ScoreMark    `json:"before" doc:"In the book before"`
	Sent     ScoreMark    `json:"sent"`
	Code     finding.Code `json:"code,omitempty"`
	Why      string       `json:"why,omitempty"`
	Answer   string       `json:"answer,omitempty" doc:"The book's words"`
	Remedy   string       `json:"remedy,omitempty"`
}

// ScoreDecision decides about scores that differ.
type ScoreDecision struct {
	Take        string   `json:"take" enum:"theirs,ours" doc:"The book's value stays, or the source's is carried"`
	Assignments []string `json:"assignments,omitempty" doc:"Ids; all when absent"`
	People      []string `json:"people,omitempty" doc:"Ids of people; everybody when absent"`
}

// DecidedScores says about how many scores was decided.
type DecidedScores struct {
	Scores int `json:"scores"`
}

// ScoreOwner says whose results they are.
type ScoreOwner struct {
	Student    string `json:"student,omitempty" doc:"What the source calls them; can be absent of somebody who moved"`
	SourceItem string `json:"sourceItem,omitempty" doc:"Only of this assignment of the source; of every one when absent"`
	PersonID   string `json:"personId,omitempty" doc:"Whose they are; empty reverts that"`
	SectionID  string `json:"sectionId,omitempty" doc:"In which section they go on, for somebody who moved"`
}

// GivenScores says whose results somebody said they are.
type GivenScores struct {
	Student    string    `json:"student" doc:"What the source calls them"`
	SourceItem string    `json:"sourceItem,omitempty" doc:"Only of this assignment of the source"`
	Assignment string    `json:"assignment,omitempty"`
	PersonID   string    `json:"personId"`
	Person     string    `json:"person"`
	Section    string    `json:"section,omitempty" doc:"In which they go on, for somebody who moved"`
	GivenBy    string    `json:"givenBy"`
	GivenAt    time.Time `json:"givenAt"`
}

// ScorePeriod is a grading period of a score link.
type ScorePeriod struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Begins  string `json:"begins,omitempty"`
	Ends    string `json:"ends,omitempty"`
	Final   bool   `json:"final" doc:"Nothing is carried into it any more"`
	FinalBy string `json:"finalBy,omitempty"`
}

// FinalPeriod declares a period final, or opens it again.
type FinalPeriod struct {
	Final bool `json:"final"`
}

// GradebookCategory is a category of a gradebook.
type GradebookCategory struct {
	ID     string   `json:"id"`
	Title  string   `json:"title"`
	Weight *float64 `json:"weight,omitempty" doc:"In per cent"`
}

// CategoryMatch is a category of the source with the book's that belongs to it.
type CategoryMatch struct {
	Source   GradebookCategory   `json:"source"`
	Book     *GradebookCategory  `json:"book,omitempty" doc:"Absent while none is settled"`
	Evidence string              `json:"evidence,omitempty" doc:"chosen, same-name or before"`
	Makes    bool                `json:"makes,omitempty" doc:"It is made in the book"`
	Several  bool                `json:"several,omitempty" doc:"More than one is called the same: somebody chooses"`
	Weights  bool                `json:"weights,omitempty" doc:"Their weights are known and differ"`
	Guesses  []GradebookCategory `json:"guesses,omitempty" doc:"Those that are called likewise"`
}

// ScoreCategories are those of a score link.
type ScoreCategories struct {
	Matches []CategoryMatch     `json:"matches"`
	Book    []GradebookCategory `json:"book" doc:"All that the book has, without those of term grades"`
}

// GradebookRead is what came of an uploaded package of a gradebook.
type GradebookRead struct {
	ReadAt time.Time      `json:"readAt"`
	Unread int            `json:"unread" doc:"Records that could not be understood; nothing is changed because of them"`
	First  []UnreadRecord `json:"first" doc:"The first of them"`
}

// PersonScore is a score of somebody, as both sides have it.
type PersonScore struct {
	LinkID     string     `json:"linkId" doc:"The score link's id"`
	Assignment string     `json:"assignment"`
	Section    string     `json:"section"`
	Given      ScoreMark  `json:"given" doc:"At the source"`
	InBook     ScoreMark  `json:"inBook"`
	Outcome    string     `json:"outcome" enum:"conflict,refused,withdrawn,new,update,replace,held,kept,unchanged,book-only"`
	Reason     ItemReason `json:"reason"`
	Elsewhere  string     `json:"elsewhere,omitempty" doc:"The section in which they are now"`
	Page       string     `json:"page,omitempty" doc:"Where it is marked"`
}

// UnfinishedWork is work of somebody that is not handed in, not marked, or marked and not final.
type UnfinishedWork struct {
	Assignment string     `json:"assignment"`
	Section    string     `json:"section"`
	SectionID  string     `json:"sectionId"`
	Teachers   []string   `json:"teachers"`
	Person     string     `json:"person"`
	PersonID   string     `json:"personId,omitempty"`
	State      string     `json:"state" enum:"draft,partly-marked,not-released,not-marked,missing,not-submitted"`
	Score      string     `json:"score,omitempty" doc:"What is entered"`
	Since      *time.Time `json:"since,omitempty" doc:"When that was entered"`
	Due        *time.Time `json:"due,omitempty"`
	Page       string     `json:"page,omitempty" doc:"Where it is marked"`
}
