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

// parse reads a text; get gives a value by its path, or what is to stand there when
// it is missing or empty.
func parse(text string, values Values) (*template.Template, error) {
	get := func(path, otherwise string) any {
		root, name, _ := strings.Cut(path, ".")
		if v, ok := values[root][name]; ok && v != nil && v != "" {
			return v
		}
		return otherwise
	}
	return template.New("text").Option("missingkey=error").Funcs(template.FuncMap{"get": get}).Parse(text)
}

// Fill renders a text in the syntax of Go's text/template with the same roots
// as expressions: "Well done, {{.person.givenName}}!". A name the event does
// not have is an error rather than an empty place, unless it is asked for with
// something to stand there instead: {{get "person.givenName" "gardener"}}.
func Fill(text string, values Values) (string, error) {
	t, err := parse(text, values)
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
	if _, err := parse(text, nil); err != nil {
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
