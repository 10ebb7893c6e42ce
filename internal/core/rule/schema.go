package rule

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
)

// Attribute is one value that expressions and texts can refer to.
type Attribute struct {
	Path   string `json:"path" doc:"As it is written in an expression, such as person.email"`
	Type   string `json:"type" enum:"text,number,yes-no,anything"`
	About  string `json:"about"`
	Sample any    `json:"sample" doc:"A made-up value"`
}

var common = []Attribute{
	{"event.id", "text", "The event's own id", "01a20932-3ea4-7300-affc-8697cea88f77"},
	{"event.type", "text", "The trigger", ""},
	{"event.at", "text", "When it happened, in UTC", "2026-11-23T09:30:00Z"},
}

var aboutPerson = []Attribute{
	{"person.id", "text", "Kanban's id of the person", "0b4f1c7e-93c1-5a86-b0cf-4a42a1f11a60"},
	{"person.givenName", "text", "Given name", "Tamsin"},
	{"person.familyName", "text", "Family name", "Trial"},
	{"person.name", "text", "Given and family name", "Tamsin Trial"},
	{"person.email", "text", "E-mail address; may be empty", "tamsin.trial@fernmoor.example"},
	{"person.userName", "text", "User name", "ttrial"},
	{"person.identifier", "text", "The register's identifier", "stu-060"},
	{"person.badgesPage", "text", "Link to the page of their badges, for them alone; empty without an e-mail address", ""},
}

var aboutSection = []Attribute{
	{"section.id", "text", "Kanban's id of the section", "5e0a6a2c-6f4f-5d0c-8f0e-0d7b0c7c2f11"},
	{"section.title", "text", "Title of the section", "Propagation A"},
	{"section.code", "text", "Code of the section", "PROP-A"},
	{"section.teachers", "text", "Names of the section's teachers, with commas between them", "Rosa Reed"},
	{"section.teacherEmails", "text", "Their addresses, with commas between them", "rosa.reed@fernmoor.example"},
	{"course.id", "text", "Kanban's id of the course", "9d1c2f5a-0d5e-5b44-9f55-3a3b7f2b8f21"},
	{"course.title", "text", "Title of the course", "Propagation"},
	{"course.code", "text", "Code of the course", "PROP"},
}

var aboutProgress = []Attribute{
	{"progress.percent", "number", "How much of the course is done now, 0 to 100", 40},
	{"progress.courseDone", "yes-no", "Whether the course is finished now", false},
	{"progress.moduleDone", "yes-no", "Whether the event's module is finished now", false},
	{"progress.activityDone", "yes-no", "Whether the event's activity is done now", false},
	{"progress.daysSince", "number", "Full days since the person's last activity, -1 before the first", 3},
	{
		"progress.lastTitle", "text", "Title of the activity at which the person was last; empty before the first",
		"Clean tools",
	},
	{
		"progress.lastAddress", "text", "Address under which it is reported",
		"https://platform.fernmoor.example/activities/act-tools",
	},
	{
		"progress.nextTitle", "text",
		"Title of the first activity that is still to be done; empty when the course is finished", "Take a cutting",
	},
	{
		"progress.nextAddress", "text", "Address under which it is reported",
		"https://platform.fernmoor.example/activities/act-cutting",
	},
	{
		"progress.missing", "text", "Titles of what is still to be done in the course, with commas between them",
		"Take a cutting, Cuttings check",
	},
	{"progress.missingCount", "number", "How many activities are still to be done in the course", 2},
	{"progress.missingInModule", "text", "The same for the event's module", "Take a cutting"},
	{"progress.enrolled", "yes-no", "Whether the person is in the section now", true},
}

var aboutModule = []Attribute{
	{"module.id", "text", "Identifier of the module", "mod-cuttings"},
	{"module.title", "text", "Title of the module", "Cuttings"},
}

var aboutActivity = []Attribute{{
	"activity.id", "text", "Address under which the activity is reported",
	"https://platform.fernmoor.example/activities/act-tools",
}, {
	"activity.title", "text", "Title of the activity",
	"Clean tools",
}}

var percent = Attribute{"event.percent", "number", "How much of the course is done, 0 to 100", 40}

var moved = Attribute{
	"event.moved", "yes-no",
	"Whether the person changed to another section of the course at the same time", false,
}

// score may be missing, so it is asked for with has(event.score).
var score = Attribute{"event.score", "number", "Scaled score, -1 to 1; there only when one was reported", 0.92}

var aboutAccess = []Attribute{
	{"event.offer", "text", "What was bought, or belongs to the membership", "propagation-place"},
	{"event.email", "text", "Address of the buyer", "tamsin.trial@fernmoor.example"},
	{"event.offerName", "text", "Our own name of the offer", "A place in Propagation"},
	{"event.name", "text", "Name of the buyer, as the service gave it; may be empty", "Tamsin Trial"},
	{"event.order", "text", "What is different for each purchase", "order-1001"},
}

var aboutBadge = []Attribute{
	{"event.badge", "text", "Name of the badge", "Cuttings"},
	{"event.badgeId", "text", "Kanban's id of the badge", "7f3f1f59-3c1a-4b1c-a7c5-0c7f5d6a1b11"},
	{"event.address", "text", "Address of the award's page", "https://kanban.fernmoor.example/open/awards/1"},
}

var aboutStage = []Attribute{
	{"event.stage", "text", "Title of the stage", "Sower"},
	{"event.stageId", "text", "The stage's id", "b3c1d2e4"},
	{"event.stagePlan", "text", "Name of the stage plan", "Gardener"},
	{"event.stagePlanId", "text", "Kanban's id of the stage plan", "0d7b0c7c-6f4f-5d0c-8f0e-5e0a6a2c2f11"},
	{"event.percent", "number", "How much of the stage plan is done, 0 to 100", 33},
	{"event.finished", "yes-no", "Whether every required stage is reached", false},
}

// aboutScore may lack event.points: a score can be a word, or only be said to be there.
var aboutScore = []Attribute{
	{"event.assignment", "text", "Title of the assignment", "Report on cuttings"},
	{"event.assignmentId", "text", "Its id where work is marked", "cuttings-report"},
	{"event.score", "text", "The score as people read it, with what is said beside it", "17.5 (late)"},
	{"event.points", "number", "The same as points; there only when it is a number", 17.5},
	{"event.maximum", "number", "How many points can be given", 20},
	{"event.scoreLinkId", "text", "Kanban's id of the score link", "2f0b8f4e-5d1a-7c3e-9a55-0e5a6a2c2f11"},
}

// own are the fields of each trigger beside the common ones.
var own = map[Trigger][]Attribute{
	SectionJoined: {{"event.role", "text", "student, teacher, …", "student"}, moved},
	SectionLeft:   {{"event.role", "text", "student, teacher, …", "student"}, moved},
	SectionMoved: {
		{"event.role", "text", "student, teacher, …", "student"},
		{"event.from", "text", "Title of the section that was left", "Propagation B"},
	},
	ActivityCompleted: {percent, score},
	AssessmentPassed:  {percent, score},
	AssessmentFailed:  {percent, score},
	ScoreReported:     {percent, score},
	WorkSubmitted:     {percent},
	ModuleCompleted:   {percent},
	CourseCompleted:   {percent},
	ProgressCrossed:   {percent},
	ActivityReopened:  {percent}, ModuleReopened: {percent}, CourseReopened: {percent},
	PersonInactive: {percent, {"event.days", "number", "For how many days nothing was done", 7}},
	PersonNotBegun: {{"event.days", "number", "For how many days the person has been in the section", 7}},
	BadgeAwarded:   aboutBadge,
	BadgeRevoked: append(slices.Clip(aboutBadge), Attribute{
		"event.reason", "text", "Why it was revoked",
		"Awarded by mistake",
	}),
	StageReached:  aboutStage,
	StageReopened: aboutStage,
	ScoreFinal:    aboutScore,
	ScoreCarried: append(slices.Clip(aboutScore), Attribute{
		"event.runId", "text", "Kanban's id of the run", "6b7e1c7e-93c1-5a86-b0cf-4a42a1f11a60",
	}),
	ScoreConflict: append(slices.Clip(aboutScore), Attribute{
		"event.inBook", "text", "What the book has", "20",
	}),
	RunNeedsPerson: {
		{"event.people", "number", "How many people need a person", 3},
		{"event.runId", "text", "Kanban's id of the run", "6b7e1c7e-93c1-5a86-b0cf-4a42a1f11a60"},
	},
	AccessGranted: aboutAccess,
	AccessEnded:   aboutAccess,
	ServiceReported: {
		{"event.reported", "text", "The service's own name for the event", "purchase.completed"},
		{"event.source", "text", "Source, as the service gave it", "https://shop.fernmoor.example"},
		{"event.subject", "text", "Subject, as the service gave it", "order-1001"},
		{"event.service", "text", "Name of the interface", "Garden shop"},
		{
			"event.data", "anything", "What the service sent",
			map[string]any{"email": "tamsin.trial@fernmoor.example", "offer": "propagation-place"},
		},
	},
}

// Schema lists what can be referred to when the trigger sets a rule off.
func Schema(t Trigger) []Attribute {
	fields := slices.Concat(common, own[t])
	switch t {
	case RunNeedsPerson:
		return slices.Concat(fields, aboutSection)
	case ServiceReported:
		return slices.Concat(fields, aboutPerson)
	}
	fields = slices.Concat(fields, aboutPerson)
	fields = slices.Concat(fields, aboutSection, aboutProgress)
	switch t {
	case ModuleCompleted, ModuleReopened:
		fields = slices.Concat(fields, aboutModule)
	case ActivityCompleted, AssessmentPassed, AssessmentFailed, ScoreReported, WorkSubmitted, ActivityReopened:
		fields = slices.Concat(fields, aboutModule, aboutActivity)
	}
	return fields
}

// Sample makes up values that fit the schema of a trigger.
func Sample(t Trigger) Values {
	out := Values{}
	for _, f := range Schema(t) {
		root, name, _ := strings.Cut(f.Path, ".")
		if out[root] == nil {
			out[root] = map[string]any{}
		}
		out[root][name] = f.Sample
	}
	out["event"]["type"] = string(t)
	return out
}

// CheckNames reports the first name in an expression that the trigger's events do
// not have, with what they have instead. Names that are only asked for with has()
// count too: a misspelt one is never there.
func (x *Expressions) CheckNames(text string, t Trigger) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	compiled, err := x.compile(text)
	if err != nil {
		return err
	}
	return checkNames(compiled, t)
}

func checkNames(compiled *cel.Ast, t Trigger) error {
	known := map[string][]string{}
	for _, f := range Schema(t) {
		root, name, _ := strings.Cut(f.Path, ".")
		known[root] = append(known[root], name)
	}
	selects := celast.MatchDescendants(celast.NavigateAST(compiled.NativeRep()),
		celast.KindMatcher(celast.SelectKind))
	for _, s := range selects {
		operand := s.AsSelect().Operand()
		if operand.Kind() != celast.IdentKind {
			continue
		}
		root, name := operand.AsIdent(), s.AsSelect().FieldName()
		if !slices.Contains(Roots, root) || root == "award" {
			continue // a variable of a comprehension, or what an earlier action gave
		}
		if len(known[root]) == 0 {
			return fmt.Errorf("%w: with %s there is no %s", ErrExpression, t, root)
		}
		if !slices.Contains(known[root], name) {
			return fmt.Errorf("%w: %s has no %q here; it has %s", ErrExpression, root, name,
				strings.Join(known[root], ", "))
		}
	}
	return nil
}
