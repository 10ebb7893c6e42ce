package rule_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
)

func TestOperationIsFilled(t *testing.T) {
	o := rule.Operation{
		Name: "add-label", Method: "POST", Path: "/contacts/{email}/labels",
		Fields: []rule.OperationField{{Name: "email", Required: true}, {Name: "label"}, {Name: "note"}},
	}
	require.NoError(t, o.Check())
	r, err := o.Fill(map[string]any{"email": "a/b?c@x.example", "label": "learner", "stray": "no field of it"})
	require.NoError(t, err)
	assert.Equal(t, rule.Request{
		Method: "POST", Path: "/contacts/a%2Fb%3Fc@x.example/labels",
		Body: []byte(`{"label":"learner"}`),
	}, r)

	o.Method = "DELETE"
	r, err = o.Fill(map[string]any{"email": "a@x.example", "label": "a b&c"})
	require.NoError(t, err)
	assert.Equal(t, rule.Request{Method: "DELETE", Path: "/contacts/a@x.example/labels?label=a+b%26c"}, r)

	for _, email := range []any{nil, "", "..", "."} {
		_, err = o.Fill(map[string]any{"email": email})
		assert.ErrorIs(t, err, rule.ErrOperation, "%v would go to another place", email)
	}
}

func TestOperationsThatCannotBeUsed(t *testing.T) {
	good := rule.Operation{Name: "x", Method: "PUT", Path: "/x/{id}", Fields: []rule.OperationField{{Name: "id"}}}
	require.NoError(t, good.Check())
	for want, change := range map[string]func(*rule.Operation){
		"small letters":        func(o *rule.Operation) { o.Name = "Add label" },
		"not one of":           func(o *rule.Operation) { o.Method = "TRACE" },
		"begin with one /":     func(o *rule.Operation) { o.Path = "//elsewhere.example/x" },
		`needs the field "id"`: func(o *rule.Operation) { o.Fields = nil },
		"two fields":           func(o *rule.Operation) { o.Fields = append(o.Fields, o.Fields[0]) },
		"both a list path": func(o *rule.Operation) {
			o.Fields = []rule.OperationField{{
				Name:     "id",
				ListPath: "/x",
			}}
		},
		"list path of \"id\" does n": func(o *rule.Operation) {
			o.Fields = []rule.OperationField{{
				Name:     "id",
				ListPath: "x", List: "y",
			}}
		},
	} {
		o := good
		change(&o)
		assert.ErrorContains(t, o.Check(), want)
	}
}

// Names are checked against what the trigger's events have.
func TestNamesAreChecked(t *testing.T) {
	x := rule.NewExpressions()
	for text, want := range map[string]string{
		`event.role == "student"`:                              "",
		`person.email.endsWith("@x") && progress.percent > 3`:  "",
		`[1, 2].exists(v, v == 1) && award.address != ""`:      "",
		`event.rolle == "student"`:                             `event has no "rolle" here; it has id, type, at, role, moved`,
		`has(event.score)`:                                     `no "score"`,
		`module.title == "x"`:                                  "with section.joined there is no module",
		`[person].exists(p, p.shoeSize == 1) && person.x == 1`: `person has no "x"`,
	} {
		err := x.CheckNames(text, rule.SectionJoined)
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		require.ErrorIs(t, err, rule.ErrExpression, text)
		assert.ErrorContains(t, err, want)
	}
	require.NoError(t, x.CheckNames(`event.data.anything.deep == 1`, rule.ServiceReported))
}

// Every sample fits its own schema, so that what is tried on it says something.
func TestSamplesHaveWhatTheSchemaSays(t *testing.T) {
	x := rule.NewExpressions()
	for _, trigger := range rule.Triggers {
		fields, sample := rule.Schema(trigger), rule.Sample(trigger)
		require.NotEmpty(t, fields)
		for _, f := range fields {
			require.NoError(t, x.CheckNames(f.Path, trigger), f.Path)
			_, err := x.Value(f.Path, sample)
			require.NoError(t, err, "%s: %s", trigger, f.Path)
			assert.NotEmpty(t, f.About)
		}
	}
}

func TestReverted(t *testing.T) {
	a, ok := rule.Action{Kind: rule.Enrol, SectionID: "s", After: "3d", If: "true"}.Reverted()
	assert.True(t, ok)
	assert.Equal(t, rule.Action{Kind: rule.Unenrol, SectionID: "s", Undo: true}, a,
		"at once, whatever the action waited for")
	_, ok = rule.Action{Kind: rule.Mail}.Reverted()
	assert.False(t, ok, "a mail cannot be reverted")
	_, ok = rule.Action{Kind: rule.SendEvent, Fields: map[string]string{"label": `"x"`}}.Reverted()
	assert.False(t, ok, "nobody said what to send instead")
}

func TestTextsHaveFallbacks_E5(t *testing.T) {
	got, err := rule.Fill(`Dear {{get "person.givenName" "gardener"}}, {{get "person.nickname" "friend"}}`, values)
	require.NoError(t, err)
	assert.Equal(t, "Dear Ana, friend", got)
}
