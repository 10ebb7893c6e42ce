package roster

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func one(id, identifier, email, given, family string) Record {
	return Record{ID: id, Identifier: identifier, Email: email, Given: given, Family: family}
}

// Records of two registers are taken for one person's by what agrees; what fits several is never chosen.
func TestSamePeople(t *testing.T) {
	a := []Record{
		one("1", "p-1", "ada@school.example", "Ada", "Alder"),
		one("2", "p-2", "", "Bram", "Birch"),
		one("3", "p-3", "cleo@school.example", "Cleo", "Clover"),
		one("4", "p-4", "twins@school.example", "Dan", "Dill"),
		one("5", "p-5", "twins@school.example", "Dora", "Dill"),
		one("6", "", "", "Nobody", "Known"),
	}
	b := []Record{
		one("x1", "p-1", "ADA@school.example ", "ada", "  Alder"),
		one("x2", "p-2", "bram@old.example", "Birch", "Bram"),
		one("x3", "p-3", "other@school.example", "Somebody", "Else"),
		one("x4", "q-4", "twins@school.example", "Dan", "Dill"),
		one("x6", "", "", "Nobody", "Known"),
	}
	got := map[string]SamePerson{}
	for _, p := range SamePeople(a, b, DefaultMatching()) {
		got[p.A+p.B] = p
	}
	assert.Equal(t, map[string]SamePerson{
		"1x1": {"1", "x1", Sure, []Sign{SameIdentifier, SameEmail, SameName}},
		"2x2": {"2", "x2", Likely, []Sign{SameIdentifier, SameName}},
		"3x3": {"3", "x3", Unsure, []Sign{SameIdentifier, OtherEmail, OtherName}},
		"4x4": {"4", "x4", Ambiguous, []Sign{OtherID, SameEmail, SameName}},
		"5x4": {"5", "x4", Ambiguous, []Sign{OtherID, SameEmail, OtherName}},
	}, got, "a name alone is no sign")

	b = append(b, one("x5", "p-5", "twins@school.example", "Dora", "Dill"))
	b[3].Identifier = "p-4"
	twins := SamePeople(a[3:5], b, DefaultMatching())
	assert.Equal(t, []SamePerson{
		{"4", "x4", Sure, []Sign{SameIdentifier, SameEmail, SameName}},
		{"5", "x5", Sure, []Sign{SameIdentifier, SameEmail, SameName}},
	}, twins, "their identifiers decide, not the address that they share")
	b[3].Given = "Somebody"
	for _, p := range SamePeople(a[3:4], b, DefaultMatching()) {
		assert.Equal(t, Ambiguous, p.Certainty,
			"the identifier finds somebody of another name, the address somebody else")
	}

	m := DefaultMatching()
	m.Domains = []DomainRule{{From: "old.example", To: "school.example"}}
	a[1].Email = "bram@school.example"
	assert.Equal(t, Sure, SamePeople(a[1:2], b[1:2], m)[0].Certainty, "an address under its old domain is the same")
	m.Keys = []Key{KeyUserName}
	assert.Empty(t, SamePeople(a, b, m), "only the keys that the matching names are looked at")
}

// What half a school shares finds nobody, and takes no time.
func TestWhatManyShareFindsNobody(t *testing.T) {
	many := make([]Record, 20000)
	for i := range many {
		many[i] = Record{
			ID: fmt.Sprint(i), Identifier: fmt.Sprint("p-", i), UserName: "student", Given: "Ada",
			Family: "Alder",
		}
	}
	pairs := SamePeople(many, many, DefaultMatching())
	assert.Len(t, pairs, len(many), "the identifier finds each of them")
	assert.Equal(t, Sure, pairs[0].Certainty)
}

// Whatever two registers hold: what is not ambiguous is one to one, both ways round the same pairs are found, and
// what shares no key is never a pair.
func TestSamePeopleAreOneToOne(t *testing.T) {
	draw := func(t *rapid.T, side string) (list []Record) {
		for i := range rapid.IntRange(0, 12).Draw(t, side) {
			pick := func(what string) string {
				return rapid.SampledFrom([]string{"", "a", "b", "c", "d"}).Draw(t,
					what)
			}
			email := pick("email")
			if email != "" {
				email += "@school.example"
			}
			list = append(list, Record{
				ID: fmt.Sprint(side, i), Identifier: pick("identifier"), Email: email, UserName: pick("user name"),
				Given: pick("given"), Family: pick("family"),
			})
		}
		return list
	}
	rapid.Check(t, func(t *rapid.T) {
		a, b := draw(t, "a"), draw(t, "b")
		there := map[[2]string]Certainty{}
		times := map[string]int{}
		for _, p := range SamePeople(a, b, DefaultMatching()) {
			there[[2]string{p.A, p.B}] = p.Certainty
			times[p.A]++
			times[p.B]++
		}
		for p, l := range there {
			assert.Equal(t, l == Ambiguous, times[p[0]] > 1 || times[p[1]] > 1)
		}
		for _, p := range SamePeople(b, a, DefaultMatching()) {
			assert.Equal(t, p.Certainty, there[[2]string{p.B, p.A}])
			delete(there, [2]string{p.B, p.A})
		}
		assert.Empty(t, there)
	})
}
