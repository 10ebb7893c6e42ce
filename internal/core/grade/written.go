package grade

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
)

// UnmarshalText reads an outcome's code.
func (o *Outcome) UnmarshalText(text []byte) error { return read(o, outcomeNames[:], "outcome", text) }

// UnmarshalText reads the code of an assignment's outcome.
func (o *ItemOutcome) UnmarshalText(text []byte) error {
	return read(o, itemOutcomeNames[:], "outcome of an assignment", text)
}

var modeNames = [...]string{"fill-and-update", "blanks-only", "replace"}

// Modes lists the codes of all modes.
func Modes() []string { return modeNames[:] }

// String is the mode's code.
func (m Mode) String() string { return modeNames[m] }

// MarshalText writes the mode's code.
func (m Mode) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads a mode's code.
func (m *Mode) UnmarshalText(text []byte) error { return read(m, modeNames[:], "mode", text) }

var contentNames = [...]string{"scores", "completions", "nothing"}

// String is the content's code.
func (c Content) String() string { return contentNames[c] }

// MarshalText writes the content's code.
func (c Content) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// UnmarshalText reads a content's code.
func (c *Content) UnmarshalText(text []byte) error { return read(c, contentNames[:], "content", text) }

var basisNames = [...]string{"due", "assigned"}

// String is the basis's code.
func (b DateBasis) String() string { return basisNames[b] }

// MarshalText writes the basis's code.
func (b DateBasis) MarshalText() ([]byte, error) { return []byte(b.String()), nil }

// UnmarshalText reads a basis's code.
func (b *DateBasis) UnmarshalText(text []byte) error { return read(b, basisNames[:], "date", text) }

var flagValueNames = [...]string{"keep", "zero", "blank"}

// String is the code of what becomes of a value.
func (v FlagValue) String() string { return flagValueNames[v] }

// MarshalText writes the code.
func (v FlagValue) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads the code.
func (v *FlagValue) UnmarshalText(text []byte) error {
	return read(v, flagValueNames[:], "value of a flag", text)
}

var sideNames = [...]string{"theirs", "ours"}

// String is the side's code.
func (s Side) String() string { return sideNames[s] }

// MarshalText writes the side's code.
func (s Side) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads a side's code.
func (s *Side) UnmarshalText(text []byte) error { return read(s, sideNames[:], "side", text) }

// read finds the value of a code.
func read[T ~uint8](into *T, names []string, what string, text []byte) error {
	i := slices.Index(names, string(text))
	if i < 0 {
		return fmt.Errorf("%q is no %s", text, what)
	}
	*into = T(i)
	return nil
}

var kindNames = [...]string{"none", "points", "text", "done"}

// String is the kind's code.
func (k Kind) String() string { return kindNames[k] }

// Names lists flags one by one, as they are shown.
func (f Flags) Names() []string {
	names := []string{}
	for _, n := range flagNames {
		if f&n.flag != 0 {
			names = append(names, n.name)
		}
	}
	return names
}

// FlagNamed finds a flag by its name, 0 when there is none.
func FlagNamed(name string) Flags {
	for _, n := range flagNames {
		if n.name == name {
			return n.flag
		}
	}
	return 0
}

// written is a mark as it is kept.
type written struct {
	Kind    string   `json:"kind"`
	Points  *float64 `json:"points,omitempty"`
	Text    string   `json:"text,omitempty"`
	Flags   []string `json:"flags,omitempty"`
	Comment string   `json:"comment,omitempty"`
}

// MarshalJSON writes a mark; points that are no number have none.
func (m Mark) MarshalJSON() ([]byte, error) {
	w := written{Kind: m.Kind.String(), Text: m.Text, Comment: m.Comment, Flags: m.Flags.Names()}
	if m.Kind == Points && !math.IsNaN(m.Points) && !math.IsInf(m.Points, 0) {
		w.Points = &m.Points
	}
	return json.Marshal(w)
}

// UnmarshalJSON reads a mark that MarshalJSON wrote.
func (m *Mark) UnmarshalJSON(text []byte) error {
	var w written
	if err := json.Unmarshal(text, &w); err != nil {
		return fmt.Errorf("reading a mark: %w", err)
	}
	*m = Mark{Text: w.Text, Comment: w.Comment}
	if err := read(&m.Kind, kindNames[:], "kind of mark", []byte(w.Kind)); err != nil {
		return err
	}
	switch {
	case w.Points != nil:
		m.Points = *w.Points
	case m.Kind == Points:
		m.Points = math.NaN()
	}
	for _, name := range w.Flags {
		m.Flags |= FlagNamed(name)
	}
	return nil
}
