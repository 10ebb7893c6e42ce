package api

// ScoreTemplate is what score links begin with, and what is expected of both sides.
type ScoreTemplate struct {
	Name           string `json:"name" minLength:"1" maxLength:"200"`
	OrganisationID string `json:"organisationId,omitempty" doc:"Whose score links begin with it, and those of all organisations below; absent for one that is chosen by name"`
	// Organisation is the name of it.
	Organisation string           `json:"organisation,omitempty" readOnly:"true"`
	Policy       ScorePolicy      `json:"policy" doc:"Categories are named by their titles"`
	Expected     ScoreExpectation `json:"expected,omitzero"`
}

// ScoreExpectation is what an organisation expects of its gradebooks; what is absent is not compared.
type ScoreExpectation struct {
	Categories []ExpectedCategory `json:"categories,omitempty"`
	Scale      map[string]string  `json:"scale,omitempty" doc:"What scores in words are worth, by word: points, a range such as 80-89, or another word"`
	PeriodKind string             `json:"periodKind,omitempty" doc:"Which kind of session counts; that of the policy when absent"`
}

// ExpectedCategory is a category that is expected in the book.
type ExpectedCategory struct {
	Title  string   `json:"title"`
	Weight *float64 `json:"weight,omitempty" doc:"In per cent; absent for any"`
}

// ScoreTemplateFor is the template with which score links of a section begin.
type ScoreTemplateFor struct {
	Found  bool        `json:"found"`
	Name   string      `json:"name,omitempty" doc:"Of the template"`
	Policy ScorePolicy `json:"policy" doc:"With which they begin: the template's, or the usual one"`
}

// ScoreMismatches are differences between how both sides are set up, and from what is expected.
type ScoreMismatches struct {
	Template string          `json:"template,omitempty" doc:"What is expected stands there; absent when nothing is"`
	Items    []ScoreMismatch `json:"items"`
}

// ScoreMismatch is something that is not the same at both sides, or not as it is expected.
type ScoreMismatch struct {
	Kind     string `json:"kind" enum:"weight,category,scale,period-kind"`
	About    string `json:"about,omitempty" doc:"Title of the category, or of the scale with its word"`
	Source   string `json:"source,omitempty" doc:"What the source has; absent when it says nothing of it"`
	Book     string `json:"book,omitempty" doc:"What the book has"`
	Expected string `json:"expected,omitempty"`
}

// FollowingScoreLink is a score link whose term ends, with what its copy for the next term would be.
type FollowingScoreLink struct {
	LinkID      string      `json:"linkId"`
	Title       string      `json:"title"`
	Source      string      `json:"source"`
	Book        string      `json:"book"`
	Moves       []ScoreMove `json:"moves"`
	SourceClass string      `json:"sourceClass,omitempty" doc:"The class at the source; absent when somebody has to choose it"`
	Interface   string      `json:"sourceInterfaceId"`
	Ready       bool        `json:"ready"`
	Why         string      `json:"why,omitempty" doc:"What is missing"`
}

// ScoreMove is a section with the one that follows it.
type ScoreMove struct {
	From     string   `json:"from"`
	To       string   `json:"to,omitempty" doc:"Absent when none follows yet"`
	Evidence []string `json:"evidence"`
}

// FollowScoreLink copies a score link for the next term.
type FollowScoreLink struct {
	SourceClass string `json:"sourceClass,omitempty" doc:"The class at the source, where it is not known by itself"`
	Ahead       int    `json:"ahead,omitempty" minimum:"0" maximum:"400" doc:"Days until the term ends at the latest; 60 when absent"`
	Anyway      bool   `json:"anyway,omitempty" doc:"Make it although both sides have few people in common"`
}
