package learning

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
)

// VerbRule says what a platform's verb means. Type, the activity's type, narrows it;
// the narrower rule wins.
type VerbRule struct {
	Verb string `json:"verb" doc:"The verb's IRI"`
	Type string `json:"type,omitempty" doc:"IRI of an activity type; any when absent"`
	Says Verb   `json:"says" enum:"touched,completed,passed,failed,scored,submitted"`
}

const adl = "http://adlnet.gov/expapi/verbs/"

// DefaultVerbs are the verbs that are in common use for learning.
var DefaultVerbs = []VerbRule{
	{adl + "launched", "", Touched},
	{adl + "initialized", "", Touched},
	{adl + "terminated", "", Touched},
	{adl + "suspended", "", Touched},
	{adl + "resumed", "", Touched},
	{adl + "registered", "", Touched},
	{adl + "attempted", "", Touched},
	{adl + "experienced", "", Touched},
	{adl + "interacted", "", Touched},
	{adl + "answered", "", Touched},
	{adl + "progressed", "", Touched},
	{adl + "completed", "", Completed},
	{adl + "passed", "", Passed},
	{adl + "mastered", "", Passed},
	{adl + "failed", "", Failed},
	{adl + "scored", "", Scored},
	{adl + "submitted", "", Submitted},
	{"http://activitystrea.ms/schema/1.0/submit", "", Submitted},
}

// NoMeaning is the note of a statement from which nothing follows because its verb means
// nothing here. Nothing is wrong with it, and looking again does not change it unless the
// institution's own verbs do.
const NoMeaning = "nothing follows from this verb"

// Verbs tells what verbs mean.
type Verbs struct {
	narrow map[verbOn]Verb // of a verb about one type of activity
	wide   map[string]Verb // of a verb about any, by its IRI
}

// verbOn is a verb about a type of activity, both IRIs.
type verbOn struct{ verb, activityType string }

// ErrVerb is wrapped by every error of CheckVerbs.
var ErrVerb = errors.New("verb cannot be used")

var meanings = []Verb{Touched, Completed, Passed, Failed, Scored, Submitted}

// CheckVerbs reports the first rule that cannot be used.
func CheckVerbs(rules []VerbRule) error {
	seen := map[verbOn]bool{}
	for i, r := range rules {
		u, err := url.Parse(r.Verb)
		switch {
		case err != nil || u.Scheme == "":
			return fmt.Errorf("%w: %d: %q is not an IRI", ErrVerb, i+1, r.Verb)
		case !slices.Contains(meanings, r.Says):
			return fmt.Errorf("%w: %d: %q is not one of touched, completed, passed, failed, scored, submitted",
				ErrVerb, i+1, r.Says)
		case seen[verbOn{r.Verb, r.Type}]:
			return fmt.Errorf("%w: %d: %s stands twice", ErrVerb, i+1, r.Verb)
		}
		seen[verbOn{r.Verb, r.Type}] = true
	}
	return nil
}

// NewVerbs joins the default rules and an institution's own, which win.
func NewVerbs(own []VerbRule) *Verbs {
	v := &Verbs{map[verbOn]Verb{}, map[string]Verb{}}
	for _, list := range [][]VerbRule{DefaultVerbs, own} {
		for _, r := range list {
			if r.Type == "" {
				v.wide[r.Verb] = r.Says
			} else {
				v.narrow[verbOn{r.Verb, r.Type}] = r.Says
			}
		}
	}
	return v
}

// Meaning of a verb about an activity of a type; ok is false when it means nothing.
func (v *Verbs) Meaning(verb, activityType string) (says Verb, ok bool) {
	if says, ok = v.narrow[verbOn{verb, activityType}]; ok {
		return says, true
	}
	says, ok = v.wide[verb]
	return says, ok
}
