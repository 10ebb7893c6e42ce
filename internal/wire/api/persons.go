package api

import "time"

// Record is what a register has of a person.
type Record struct {
	PersonID    string `json:"personId"`
	InterfaceID string `json:"interfaceId" doc:"The register"`
	Register    string `json:"register"`
	SourcedID   string `json:"sourcedId" doc:"The register's own id"`
	Name        string `json:"name"`
	Email       string `json:"email"`
	UserName    string `json:"userName"`
	Identifier  string `json:"identifier"`
	Leads       bool   `json:"leads" doc:"Its name and address stand for the person"`
	Left        bool   `json:"left,omitempty" doc:"The register does not list it any more"`
	Enrolments  int    `json:"enrolments" doc:"In so many sections now"`
}

// SamePerson is two records of two registers that look like one person's.
type SamePerson struct {
	ID        string   `json:"id"`
	Certainty string   `json:"certainty" enum:"sure,likely,unsure,ambiguous" doc:"How sure it is; ambiguous: a record fits several"`
	Signs     []string `json:"signs" doc:"What speaks for it: same-identifier, same-email, same-user-name, same-name; and against it: other-name, other-email, other-identifier"`
	A         Record   `json:"a" doc:"Who remains when they are merged"`
	B         Record   `json:"b"`
}

// SamePeople is a page of them.
type SamePeople struct {
	Items  []SamePerson   `json:"items"`
	Counts map[string]int `json:"counts" doc:"How many there are, by certainty"`
	Next   string         `json:"next,omitempty" doc:"The cursor of the next page, absent on the last one"`
}

// MergeSame says which pairs are one person each.
type MergeSame struct {
	IDs      []string `json:"ids,omitempty" maxItems:"20000" doc:"Of the pairs"`
	Sure     bool     `json:"sure,omitempty" doc:"All of which it is sure, instead"`
	Expected int      `json:"expected,omitempty" doc:"How many of those somebody has seen; when they are more or fewer now, nothing is merged"`
}

// MergePeople says that two people are one.
type MergePeople struct {
	OtherID  string            `json:"otherId" doc:"The id of the person who becomes this one"`
	Accounts map[string]string `json:"accounts,omitempty" doc:"Where both have an account at a service: by interface, the one that is used from now on"`
}

// Pairs are the ids of pairs that look like one person.
type Pairs struct {
	IDs []string `json:"ids" maxItems:"20000"`
}

// Clash is something of which both have one, and one person can have only one.
type Clash struct {
	Kind        string `json:"kind" enum:"account,badge,proof"`
	InterfaceID string `json:"interfaceId,omitempty" doc:"The service, for accounts"`
	Subject     string `json:"subject" doc:"The service, the badge, or the test learner"`
	Mine        string `json:"mine,omitempty" doc:"The account of who remains"`
	Theirs      string `json:"theirs,omitempty" doc:"The other's account"`
}

// MergeOutcome says what became of two people who were to become one.
type MergeOutcome struct {
	PersonID string  `json:"personId"`
	OtherID  string  `json:"otherId"`
	Name     string  `json:"name"`
	Other    string  `json:"other"`
	MergeID  string  `json:"mergeId,omitempty" doc:"To split them again; absent when they were not merged"`
	Why      string  `json:"why,omitempty" doc:"They were not merged"`
	Clashes  []Clash `json:"clashes,omitempty"`
}

// MergeOutcomes are those of several.
type MergeOutcomes struct {
	Merged  int            `json:"merged"`
	Refused []MergeOutcome `json:"refused" doc:"Those who were not merged, each with why"`
}

// Merge is two people who became one.
type Merge struct {
	ID       string    `json:"id"`
	PersonID string    `json:"personId"`
	OtherID  string    `json:"otherId" doc:"The id that the other had"`
	Name     string    `json:"name"`
	Other    string    `json:"other" doc:"The other's name, as it was"`
	Evidence []string  `json:"evidence" doc:"What spoke for it"`
	MergedBy string    `json:"mergedBy"`
	MergedAt time.Time `json:"mergedAt"`
}

// TwoPeople is two records of which somebody said that they are two people's.
type TwoPeople struct {
	ID        string `json:"id"`
	A         string `json:"a"`
	ARegister string `json:"aRegister"`
	B         string `json:"b"`
	BRegister string `json:"bRegister"`
	DecidedBy string `json:"decidedBy"`
}
