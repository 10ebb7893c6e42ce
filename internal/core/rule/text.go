package rule

import (
	"errors"
	"fmt"
	"strings"
	"text/template"
)

// ErrText is wrapped by every error about a text template that cannot be used.
var ErrText = errors.New("text cannot be filled in")

// maxText is the longest text a template may grow to, in bytes.
const maxText = 256 << 10

// Fill renders a text in the syntax of Go's text/template with the same roots
// as expressions: "Well done, {{.person.givenName}}!". A name the event does
// not have is an error rather than an empty place.
func Fill(text string, values Values) (string, error) {
	t, err := template.New("text").Option("missingkey=error").Parse(text)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrText, err)
	}
	data := make(map[string]map[string]any, len(Roots))
	for _, root := range Roots {
		data[root] = values[root]
	}
	var out limited
	if err := t.Execute(&out, data); err != nil {
		return "", fmt.Errorf("%w: %w", ErrText, err)
	}
	return out.String(), nil
}

// CheckText reports whether a text can be parsed.
func CheckText(text string) error {
	if _, err := template.New("text").Parse(text); err != nil {
		return fmt.Errorf("%w: %w", ErrText, err)
	}
	return nil
}

type limited struct{ strings.Builder }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > maxText {
		return 0, fmt.Errorf("the text grows beyond %d bytes", maxText)
	}
	return l.Builder.Write(p)
}
