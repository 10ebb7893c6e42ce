package badge

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Design is how a badge's picture is drawn.
type Design struct {
	Shape string `json:"shape" enum:"round,shield,hexagon,rosette,square,drop" doc:"Its outline"`
	// Symbol is the name of one, or Letters stand in its place.
	Symbol  string  `json:"symbol,omitempty" doc:"In the middle: the name of a symbol"`
	Letters string  `json:"letters,omitempty" maxLength:"12" doc:"In the middle in place of a symbol, such as a number"`
	Above   string  `json:"above,omitempty" maxLength:"60" doc:"Text on a curve above the middle"`
	Below   string  `json:"below,omitempty" maxLength:"60" doc:"Text on a curve below the middle"`
	Stars   int     `json:"stars,omitempty" minimum:"0" maximum:"5" doc:"Under the symbol, such as for a level"`
	Colours Colours `json:"colours"`
}

// Colours of a design, each as #rrggbb.
type Colours struct {
	Edge   string `json:"edge" doc:"Of the outline"`
	Body   string `json:"body" doc:"Of the field on which the texts stand"`
	Disc   string `json:"disc" doc:"Of the disc on which the symbol stands"`
	Symbol string `json:"symbol" doc:"Of the symbol, the letters and the stars"`
	Text   string `json:"text" doc:"Of the texts"`
}

// Shapes of a badge, in the order in which they are offered.
var Shapes = []string{"round", "shield", "hexagon", "rosette", "square", "drop"}

// Bounds of a design.
const (
	longestLetters = 12
	longestCurve   = 60
	mostStars      = 5
)

// Begin is how a picture is drawn before anybody said anything: like another one of its issuer, if there is any, with
// the badge's own name; else as is usual.
func Begin(like *Design, issuer, name string) Design {
	if like != nil {
		d := *like
		d.Below = cut(name)
		return d
	}
	return Design{
		Shape: "round", Symbol: "medal", Above: cut(issuer), Below: cut(name),
		Colours: Colours{Edge: "#1f4d2b", Body: "#2f6136", Disc: "#fffdf7", Symbol: "#b4451f", Text: "#fffdf7"},
	}
}

// cut shortens a text to what a curve takes.
func cut(text string) string {
	letters := []rune(text)
	return string(letters[:min(len(letters), longestCurve)])
}

// ErrDesign is wrapped by every reason for which a design cannot be drawn.
var ErrDesign = errors.New("the picture cannot be drawn")

var hexColour = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// Check refuses what cannot be drawn; symbols are the names of those that there are.
func (d Design) Check(symbols []string) error {
	wrong := func(field, format string, args ...any) error {
		return fmt.Errorf("%w: %s %s", ErrDesign, field, fmt.Sprintf(format, args...))
	}
	switch {
	case !slices.Contains(Shapes, d.Shape):
		return wrong("shape", "%q is none of %s", d.Shape, strings.Join(Shapes, ", "))
	case d.Symbol != "" && !slices.Contains(symbols, d.Symbol):
		return wrong("symbol", "%q is not among the symbols", d.Symbol)
	case utf8.RuneCountInString(d.Letters) > longestLetters:
		return wrong("letters", "are more than %d", longestLetters)
	case utf8.RuneCountInString(d.Above) > longestCurve, utf8.RuneCountInString(d.Below) > longestCurve:
		return wrong("texts", "are longer than %d letters", longestCurve)
	case d.Stars < 0 || d.Stars > mostStars:
		return wrong("stars", "are between 0 and %d", mostStars)
	}
	for name, c := range map[string]string{
		"edge": d.Colours.Edge, "body": d.Colours.Body, "disc": d.Colours.Disc, "symbol": d.Colours.Symbol,
		"text": d.Colours.Text,
	} {
		if !hexColour.MatchString(c) {
			return wrong("colours", "%q of the %s is no colour such as #2f6136", c, name)
		}
	}
	return nil
}
