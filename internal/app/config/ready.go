package config

import (
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/wire/config"
)

//go:embed ready/*.yaml
var readyFiles embed.FS

// What a ready rule can need.
const (
	NeedsInterface = "interface"
	NeedsBadge     = "badge"
	NeedsModule    = "module"
	NeedsAddress   = "address" // an e-mail address
)

// Need is something that a ready rule has to be told before it can be made.
type Need struct {
	Name  string   `yaml:"name"`
	What  string   `yaml:"what"`
	Kinds []string `yaml:"kinds"` // of interfaces
	About string   `yaml:"about"`
	// Choices are what there is of it; none for an address, which has to be typed.
	Choices []Choice `yaml:"-"`
}

// Choice is one that a need can be met with.
type Choice struct {
	Value string // by which it is chosen
	Title string

	course, module string // of a module
}

// Ready is a rule by its purpose, which only has to be told what it needs.
type Ready struct {
	Key   string `yaml:"-"` // by which it is asked for
	Title string `yaml:"title"`
	About string `yaml:"about"`
	Needs []Need `yaml:"needs"`
	body  json.RawMessage
}

// readyRules are all, ordered by key.
var readyRules = sync.OnceValues(func() (all []Ready, err error) {
	err = fs.WalkDir(readyFiles, "ready", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := readyFiles.ReadFile(name)
		if err != nil {
			return err
		}
		r := Ready{Key: strings.TrimSuffix(path.Base(name), ".yaml")}
		var parts map[string]yaml.Node
		if err := yaml.Unmarshal(text, &r); err != nil {
			return fmt.Errorf("reading %s: %w", name, err)
		}
		if err := yaml.Unmarshal(text, &parts); err != nil {
			return fmt.Errorf("reading %s: %w", name, err)
		}
		rules := parts[string(config.Rules)]
		form, err := yaml.Marshal(map[config.Kind]*yaml.Node{config.Rules: &rules})
		if err != nil {
			return err
		}
		items, faults := config.Read(map[string][]byte{name: form})
		if len(faults) > 0 || len(items) != 1 {
			return fmt.Errorf("%s holds no rule that can be used: %v", name, faults)
		}
		r.body = items[0].Body
		all = append(all, r)
		return nil
	})
	return all, err
})

// ReadyRules lists them, with what there is of what they need.
func (s *Service) ReadyRules(ctx context.Context) ([]Ready, error) {
	kept, err := readyRules()
	if err != nil {
		return nil, err
	}
	all := slices.Clone(kept)
	for i := range all {
		all[i].Needs = slices.Clone(all[i].Needs)
		for n := range all[i].Needs {
			if all[i].Needs[n].Choices, err = s.choices(ctx, all[i].Needs[n]); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// choices are what there is of something that is needed.
func (s *Service) choices(ctx context.Context, need Need) (out []Choice, err error) {
	switch need.What {
	case NeedsInterface:
		all, err := connectionstore.Interfaces(ctx, s.Store)
		for _, x := range all {
			if slices.Contains(need.Kinds, x.Kind) {
				out = append(out, Choice{Value: x.Name, Title: x.Name})
			}
		}
		return out, err
	case NeedsBadge:
		all, err := badgestore.Badges(ctx, s.Store, nil)
		for _, x := range all {
			out = append(out, Choice{Value: x.Name, Title: x.Name})
		}
		return out, err
	case NeedsModule:
		book, err := readNames(ctx, s.Store)
		if err != nil {
			return nil, err
		}
		courses, err := learningstore.Courses(ctx, s.Store)
		for _, c := range courses {
			if !c.HasOutline {
				continue
			}
			o, err := learningstore.Outline(ctx, s.Store, c.ID)
			if err != nil {
				return nil, err
			}
			for _, m := range o.Modules {
				course := book.courses.name(c.ID)
				out = append(out, Choice{course + ": " + m.Title, c.Title + ": " + m.Title, course, m.ID})
			}
		}
		return out, err
	}
	return nil, nil
}

// AddReady makes a ready rule, which is off, out of what it needs by name. name is what it is to be
// called, its title when empty.
func (s *Service) AddReady(ctx context.Context, who, ready, name string, needs map[string]string,
) (rulestore.Rule, error) {
	all, err := s.ReadyRules(ctx)
	if err != nil {
		return rulestore.Rule{}, err
	}
	i := slices.IndexFunc(all, func(r Ready) bool { return r.Key == ready })
	if i < 0 {
		return rulestore.Rule{}, fmt.Errorf("finding the ready rule: %w", db.ErrNotFound)
	}
	given, err := all[i].met(needs)
	if err != nil {
		return rulestore.Rule{}, err
	}
	x, err := all[i].filled(given)
	if err != nil {
		return rulestore.Rule{}, err
	}
	if name = strings.TrimSpace(name); name != "" {
		x.Name = name
	}
	var made rulestore.Rule
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		w := s.work(s.Store.Within(tx), who)
		r, err := w.refs(ctx, &taken{})
		if err != nil {
			return err
		}
		d := draftOf(r, x)
		if err := r.err(); err != nil {
			return refusal.Invalid("needs", "%s", strings.ReplaceAll(err.Error(), "\n", "; "))
		}
		made, err = w.Rules.Save(ctx, who, "", 0, d)
		return err
	})
	return made, err
}

// met gives what a ready rule needs. What is not given is taken when there is only one of it.
func (r Ready) met(given map[string]string) (map[string]Choice, error) {
	out := map[string]Choice{}
	for name := range given {
		if !slices.ContainsFunc(r.Needs, func(n Need) bool { return n.Name == name }) {
			return nil, refusal.Invalid("needs."+name, "%s does not need this", r.Title)
		}
	}
	for _, n := range r.Needs {
		value := strings.TrimSpace(given[n.Name])
		var fits []Choice
		for _, c := range n.Choices {
			if value == "" || strings.EqualFold(c.Value, value) {
				fits = append(fits, c)
			}
		}
		switch {
		case n.What == NeedsAddress && value != "":
			out[n.Name] = Choice{Value: value}
		case len(fits) == 1:
			out[n.Name] = fits[0]
		case value == "":
			return nil, refusal.Invalid("needs."+n.Name, "is missing (%s): %s", lowered(n.About), n.says())
		case len(fits) > 1:
			return nil, refusal.Invalid("needs."+n.Name, "%q fits several; make the rule by hand instead", value)
		default:
			return nil, refusal.Invalid("needs."+n.Name, "there is no %q: %s", value, n.says())
		}
	}
	return out, nil
}

// lowered begins a text with a small letter, for the middle of a sentence.
func lowered(text string) string { return strings.ToLower(text[:1]) + text[1:] }

// says with what a need can be met.
func (n Need) says() string {
	var all []string
	for _, c := range n.Choices {
		all = append(all, c.Value)
	}
	switch {
	case n.What == NeedsAddress:
		return "give an e-mail address"
	case len(all) > 0:
		return "choose one of " + strings.Join(all, ", ")
	case n.What == NeedsInterface:
		var titles []string
		for _, k := range n.Kinds {
			kind, _ := adapter.Lookup(k)
			titles = append(titles, kind.Title)
		}
		return "there is none yet; connect one first: " + strings.Join(titles, " or ")
	case n.What == NeedsModule:
		return "no course has an outline yet; set one first"
	}
	return "there is none yet; make one first"
}

// filled puts what was chosen in the places of the rule that ask for it, such as $mail.
func (r Ready) filled(chosen map[string]Choice) (x config.Rule, err error) {
	text := string(r.body)
	for name, c := range chosen {
		value := c.Value
		if c.module != "" {
			value = c.module
		}
		quoted, err := json.Marshal(value)
		if err != nil {
			return x, err
		}
		text = strings.ReplaceAll(text, `"$`+name+`"`, string(quoted))
	}
	if err := json.Unmarshal([]byte(text), &x); err != nil {
		return x, err
	}
	for _, c := range chosen {
		if c.course != "" {
			x.Scope.Course = c.course
		}
	}
	return x, nil
}
