package learning

import "time"

// Finishing gives the facts by which somebody finishes a module at a time: what is to be passed is passed with the
// best score, all else is completed.
func Finishing(m Module, at time.Time) []Fact {
	var facts []Fact
	for _, a := range counted(m) {
		f := Fact{ActivityID: a.ID, Verb: Completed, At: at}
		if a.Kind == Assessment || a.PassMark != nil {
			best := 1.0
			f.Verb, f.Score = Passed, &best
		}
		facts = append(facts, f)
	}
	return facts
}
