package grade

import (
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"kanban/internal/core/finding"
)

// Kind says what a mark is.
type Kind uint8

// What a mark can be.
const (
	None   Kind = iota // no value: a blank
	Points             // a number of points
	Text               // a score in words
	Done               // done, without a score
)

// Flags are what is said of a result beside its value (OneRoster 1.2 "Result":
// scoreStatus exempt and not submitted, missing, late, incomplete).
type Flags uint8

// The flags, each a bit.
const (
	Exempt Flags = 1 << iota
	Missing
	Late
	Incomplete
	NotSubmitted
)

// flagNames are the flags in words, in the order in which they are shown.
var flagNames = [...]struct {
	flag Flags
	name string
}{
	{Exempt, "exempt"},
	{Missing, "missing"},
	{Late, "late"},
	{Incomplete, "incomplete"},
	{NotSubmitted, "not submitted"},
}

// String lists flags in words.
func (f Flags) String() string {
	var names []string
	for _, n := range flagNames {
		if f&n.flag != 0 {
			names = append(names, n.name)
		}
	}
	return strings.Join(names, ", ")
}

// Mark is a value with what is said beside it, as one side has it.
type Mark struct {
	Kind    Kind
	Points  float64
	Text    string
	Flags   Flags
	Comment string
}

// Blank reports whether there is no value and nothing is said beside it.
func (m Mark) Blank() bool { return m.Kind == None && m.Flags == 0 && m.Comment == "" }

// String is the mark as people read it: its value, and its flags in brackets.
func (m Mark) String() string {
	text := ""
	switch m.Kind {
	case None:
		text = "–"
	case Points:
		text = strconv.FormatFloat(m.Points, 'f', -1, 64)
	case Text:
		text = m.Text
	case Done:
		text = "done"
	}
	if m.Flags != 0 {
		text += " (" + m.Flags.String() + ")"
	}
	return text
}

// FlagValue is what becomes of the value of a result with a flag.
type FlagValue uint8

// What can become of a flagged result's value.
const (
	Keep  FlagValue = iota
	Zero            // it counts as zero points
	Blank           // it has none
)

// FlagRule says what becomes of a result with a flag.
type FlagRule struct {
	Value FlagValue
	// Drop says that the flag itself is not carried although the book could hold it.
	Drop bool
}

// Scale says what scores in words are in the book: points of the assignment's
// maximum at the source, or another text (OneRoster 1.2 ScoreScale).
type Scale map[string]Mark

// Rounded is a number of points as a book with so many decimals keeps it: half of
// the last one goes away from zero.
func Rounded(points float64, decimals int) float64 {
	unit := math.Pow10(decimals)
	// What is half but for the error of a binary fraction is half.
	scaled := points * unit
	return math.Copysign(math.Floor(math.Abs(scaled)+0.5+1e-9), points) / unit
}

// carry gives a result of the source in the book's terms. A reason says why it
// cannot be had in them; lost are flags that the book cannot hold, and shortened
// says that the comment was cut.
func carry(r *Result, item *Item, p *Policy) (m Mark, lost Flags, shortened bool, reason finding.Code) {
	if item.Content == Completions {
		if r.Mark.Flags&(Exempt|Missing|NotSubmitted) != 0 {
			return Mark{}, 0, false, finding.ScoreNothingToCarry
		}
		return Mark{Kind: Done}, 0, false, ""
	}
	m, reason = value(r.Mark, item, p)
	if reason != "" {
		return Mark{}, 0, false, reason
	}
	m.Flags = 0
	for _, n := range flagNames {
		if r.Mark.Flags&n.flag == 0 {
			continue
		}
		rule := p.Flags[n.flag]
		switch {
		case rule.Drop:
		case p.Book.Flags&n.flag != 0:
			m.Flags |= n.flag
		default:
			lost |= n.flag
		}
		switch rule.Value {
		case Keep:
		case Zero:
			m.Kind, m.Points, m.Text = Points, 0, ""
		case Blank:
			m.Kind, m.Points, m.Text = None, 0, ""
		}
	}
	m.Comment = ""
	if p.Comments && p.Book.Comments && !r.CommentHidden {
		m.Comment, shortened = shorten(r.Mark.Comment, p.Book.MaxComment)
	}
	if m.Blank() {
		return m, lost, shortened, finding.ScoreNothingToCarry
	}
	return m, lost, shortened, ""
}

// value gives the value alone in the book's terms.
func value(given Mark, item *Item, p *Policy) (Mark, finding.Code) {
	if given.Kind == Text {
		scaled, ok := item.Scale[strings.ToLower(strings.TrimSpace(given.Text))]
		switch {
		case ok:
			given.Kind, given.Points, given.Text = scaled.Kind, scaled.Points, scaled.Text
		case !p.Book.Texts || item.Scale != nil:
			return Mark{}, finding.ScoreTextUnmapped
		}
	}
	if given.Kind != Points {
		return given, ""
	}
	from, to := item.Source.Maximum, item.Source.Maximum
	if item.Book != nil {
		to = item.Book.Maximum
	}
	switch {
	case math.IsNaN(given.Points) || math.IsInf(given.Points, 0):
		return Mark{}, finding.ScoreUnreadable
	case given.Points < 0:
		return Mark{}, finding.ScoreNegative
	case given.Points > from && !p.Book.OverMaximum:
		return Mark{}, finding.ScoreOverMaximum
	case from != to && (from <= 0 || to <= 0):
		return Mark{}, finding.ScoreNotScalable
	case from != to:
		given.Points = given.Points / from * to
	}
	given.Points = Rounded(given.Points, p.Book.Decimals)
	return given, ""
}

// shorten cuts a text to so many runes, 0 for any number.
func shorten(text string, most int) (string, bool) {
	if most <= 0 || utf8.RuneCountInString(text) <= most {
		return text, false
	}
	return string([]rune(text)[:most]), true
}

// Same reports whether the book would hold two marks alike.
func (p *Policy) Same(a, b Mark) bool { return p.same(&a, &b) }

// same reports whether the book would hold two marks alike: points to its
// decimals, flags and comments as far as it holds and is sent them.
func (p *Policy) same(a, b *Mark) bool {
	if a.Kind != b.Kind || a.Flags&p.Book.Flags != b.Flags&p.Book.Flags {
		return false
	}
	if p.Comments && p.Book.Comments && a.Comment != b.Comment {
		return false
	}
	switch a.Kind {
	case Points:
		return a.Points == b.Points || Rounded(a.Points, p.Book.Decimals) == Rounded(b.Points, p.Book.Decimals)
	case Text:
		return strings.EqualFold(strings.TrimSpace(a.Text), strings.TrimSpace(b.Text))
	case None, Done:
	}
	return true
}
