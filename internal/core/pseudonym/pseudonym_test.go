package pseudonym_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/pseudonym"
)

func school() pseudonym.Hider {
	n := pseudonym.NewNames()
	n.Person("Ada", "Alder", "ada.alder")
	n.Person("Rose", "Thyme", "rthyme")
	n.Person("Anne-Marie", "O'Brien", "amob7")
	n.Person("ed", "van dyke", "")
	n.Person("May", "Garden", "may")
	n.Person("小明", "王", "")
	n.Person("Жанна", "Сад", "")
	n.Keep("Fernmoor Garden School")
	n.Keep("Rose pruning")
	return pseudonym.Hider{Names: n, Key: []byte("key")}
}

func TestNamesAreReplaced(t *testing.T) {
	h := school()
	for _, text := range []string{
		"Ada Alder", "Alder, Ada", "ADA ALDER", "ada alder", "Ada", "Hello Ada!", "ada.alder", "mail to ada.alder.",
		"<ADA@School.Example>", "mailto:ada@school.example", "Rose Thyme", "rthyme", "Anne-Marie O'Brien", "Marie",
		"Ed van Dyke", "ed van dyke", "May Garden", "Garden May", "王小明 is missing", "王 小明", "Жанна", "ЖАННА САД",
		`{"name":"Ada Alder"}`, "amob7", "Rose pruning with Ada",
	} {
		out := h.Text(text)
		for _, name := range []string{
			"ada", "alder", "thyme", "rthyme", "marie", "brien", "dyke", "may", "amob7", "school.example", "小明",
			"жанна",
			"сад",
		} {
			for _, w := range regexp.MustCompile(`[\p{L}\p{N}]+`).FindAllString(strings.ToLower(out), -1) {
				assert.NotEqual(t, name, w, "%s → %s", text, out)
			}
		}
		assert.NotContains(t, out, "小明", text)
		assert.Equal(t, out, h.Text(text), "the same each time")
		assert.Equal(t, out, h.Text(out), "what is made up stays")
	}
	assert.Equal(t, strings.Split(h.Text("Ada Alder"), " ")[0], h.Text("Ada"), "the same name, the same made-up one")
	other := h
	other.Key = []byte("another")
	assert.NotEqual(t, h.Text("Ada Alder"), other.Text("Ada Alder"))
}

func TestWhatIsNoNameStays(t *testing.T) {
	h := school()
	for _, text := range []string{
		"Fernmoor Garden School", "Rose pruning", "You may go on", "3 May 2026", "Will be read at 12:00", "", "12", "–",
		"the garden", "stu-003", "PROP-A", "01a23326-d900-7b98-bf91-4779dffbe5d4", "https://school.example/people/7",
		"may be", "Adaptation", "alderman",
	} {
		assert.Equal(t, text, h.Text(text))
	}
	assert.NotEqual(t, "Rose", h.Text("Rose Thyme")[:4], "beside another name it is one")
}

func TestDocumentsKeepTheirForm(t *testing.T) {
	h := school()
	doc := `{"id":"Ada","personId":"Ada Alder","name":"Ada Alder","n":1.50,"list":["Ada","b\"Ada\\"],"x":{"Ada Alder":2,
		"a@b.example":{"email":"a@b.example"}},"issuer":{"name":"Fernmoor Garden School","email":"office@f.example"},
		"stranger":{"name":"Zed Zinnia","email":null,"note":"Zed Zinnia left"},"esc":"\u0041da","html":"<b>"}`
	out := h.JSON([]byte(doc))
	var was, is map[string]any
	require.NoError(t, json.Unmarshal([]byte(doc), &was))
	require.NoError(t, json.Unmarshal(out, &is), string(out))
	assert.Equal(t, "Ada", is["id"])
	assert.Equal(t, "Ada Alder", is["personId"], "what tells records apart stays")
	for _, gone := range []string{"a@b.example", "office@", "Zinnia", `:"Ada"`, "\"Ada\\", `"Ada Alder":2`} {
		if gone != `:"Ada"` {
			assert.NotContains(t, string(out), gone)
		}
	}
	assert.Contains(t, string(out), `"n":1.50`)
	assert.Equal(t, "Fernmoor Garden School", is["issuer"].(map[string]any)["name"])
	assert.Equal(t, "<b>", is["html"])
	assert.NotEqual(t, "Ada", is["esc"])
	assert.Equal(t, is["stranger"].(map[string]any)["name"].(string)+" left", is["stranger"].(map[string]any)["note"])
	assert.Nil(t, h.JSON([]byte(`{"name":"Ada`)), "what is no JSON is not shown")
	h.Marks = true
	assert.True(t, strings.HasSuffix(h.Text("Ada"), pseudonym.Mark))
	assert.True(t, strings.HasSuffix(h.Text("a@b.example"), "@"+pseudonym.Domain+pseudonym.Mark))
	assert.Equal(t, h.Text("Ada Alder"), h.Text(h.Text("Ada Alder")))
}

// Whatever a document looks like, nobody's name, user name or address is left in what people read of it, it holds as
// many things as before, and its ids are as they were.
func TestNobodyIsLeft(t *testing.T) {
	h := school()
	who := []string{"Ada Alder", "Rose Thyme", "ada.alder", "x.y+z@school.example", "Garden, May", "王小明"}
	var value func(depth int) *rapid.Generator[any]
	text := rapid.Custom(func(t *rapid.T) any {
		parts := rapid.SliceOfN(rapid.OneOf(rapid.SampledFrom(who), rapid.StringN(0, 6, -1)), 0, 4).Draw(t, "parts")
		return strings.Join(parts, " \n")
	})
	value = func(depth int) *rapid.Generator[any] {
		all := []*rapid.Generator[any]{
			text, rapid.Just(any(nil)), rapid.Map(rapid.Float64Range(-1e6, 1e6), func(f float64) any { return f }),
		}
		if depth > 0 {
			all = append(all, rapid.Custom(func(t *rapid.T) any {
				out := []any{}
				for range rapid.IntRange(0, 3).Draw(t, "n") {
					out = append(out, value(depth-1).Draw(t, "item"))
				}
				return out
			}), rapid.Custom(func(t *rapid.T) any {
				out := map[string]any{"id": "Ada"}
				for range rapid.IntRange(0, 3).Draw(t, "n") {
					out[rapid.SampledFrom([]string{"name", "email", "x", "Ada Alder", "who"}).Draw(t,
						"key")] = value(depth-1).Draw(t, "value")
				}
				return out
			}))
		}
		return rapid.OneOf(all...)
	}
	left := regexp.MustCompile(`(?i)\balder\b|\bthyme\b|ada\.alder|school\.example|小明`)
	rapid.Check(t, func(t *rapid.T) {
		doc, err := json.Marshal(value(3).Draw(t, "doc"))
		if err != nil {
			t.Fatal(err)
		}
		out := h.JSON(doc)
		var was, is any
		if json.Unmarshal(doc, &was) != nil || json.Unmarshal(out, &is) != nil {
			t.Fatalf("%s became %s", doc, out)
		}
		if a, b := shape(was), shape(is); a != b {
			t.Fatalf("%s became %s", a, b)
		}
		if m := left.Find(out); m != nil {
			t.Fatalf("%s is left in %s of %s", m, out, doc)
		}
	})
}

// shape says what a document consists of, without its texts; ids are as they are.
func shape(v any) string {
	switch x := v.(type) {
	case []any:
		out := "["
		for _, y := range x {
			out += shape(y)
		}
		return out + "]"
	case map[string]any:
		return fmt.Sprintf("{%d %v %s%s}", len(x), x["id"], shape(x["name"]), shape(x["x"]))
	case string:
		return "s"
	}
	return fmt.Sprint(v)
}

func ExampleHider_Text() {
	names := pseudonym.NewNames()
	names.Person("Ada", "Alder", "ada.alder")
	hider := pseudonym.Hider{Names: names, Key: []byte("a secret")}
	fmt.Println(hider.Text("The office waits for Ada."))
	// Output: The office waits for Vaney.
}

func BenchmarkJSON(b *testing.B) {
	h := school()
	var list []map[string]any
	for i := range 1000 {
		list = append(list, map[string]any{
			"id": fmt.Sprint(i), "name": "Ada Alder", "email": "ada@school.example", "why": "is not in the class, because the register says so",
		})
	}
	doc, err := json.Marshal(list)
	require.NoError(b, err)
	b.SetBytes(int64(len(doc)))
	for b.Loop() {
		require.NotEmpty(b, h.JSON(doc))
	}
}
