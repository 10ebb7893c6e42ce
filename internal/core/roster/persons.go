package roster

import (
	"cmp"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Record is what one register has of a person.
type Record struct {
	ID         string // the register's own id of it
	Identifier string
	Email      string
	UserName   string
	Given      string
	Family     string
}

// Sign is something that speaks for or against two records being one person's.
type Sign string

// The signs. For the first three see the keys.
const (
	SameIdentifier Sign = "same-identifier"
	SameEmail      Sign = "same-email"
	SameUserName   Sign = "same-user-name"
	SameName       Sign = "same-name"  // as given, ignoring case and spaces, or the other way round
	OtherName      Sign = "other-name" // speaks against it
	OtherEmail     Sign = "other-email"
	OtherID        Sign = "other-identifier"
)

// Certainty says how sure it is that two records are one person's.
type Certainty string

// How sure it is, the surest first.
const (
	Sure   Certainty = "sure"   // two keys and the name agree
	Likely Certainty = "likely" // one key and the name agree
	Unsure Certainty = "unsure" // a key agrees, and the name does not: two schools may number their people alike
	// Ambiguous: each key fits several records, or different keys fit different ones; somebody has to choose.
	Ambiguous Certainty = "ambiguous"
)

// Certainties are all of them, the surest first.
var Certainties = []Certainty{Sure, Likely, Unsure, Ambiguous}

// SamePerson is a pair of records of two registers that look like one person's: A of the first, B of the second.
type SamePerson struct {
	A, B      string
	Certainty Certainty
	Signs     []Sign
}

// SamePeople finds the records of two registers that look like one person's, by the keys of a matching but the
// account, which no register has, and by its domain rules. Nothing is chosen: where a record fits several, each
// such pair is given as ambiguous. A key that finds just one record on either side, of the same name, decides
// against what weaker keys find, such as an address that twins share. The pairs are in the order of a.
func SamePeople(a, b []Record, m Matching) (pairs []SamePerson) {
	keys := slices.DeleteFunc(slices.Clone(m.Keys), func(k Key) bool { return k == KeyAccount })
	fits := decided(allFits(a, b, keys, m))
	ofA, ofB := map[int]int{}, map[int]int{}
	for _, f := range fits {
		ofA[f.a]++
		ofB[f.b]++
	}
	for _, f := range fits {
		signs, agree := signsOf(a[f.a], b[f.b], keys, m)
		p := SamePerson{A: a[f.a].ID, B: b[f.b].ID, Signs: signs}
		switch {
		case ofA[f.a] > 1 || ofB[f.b] > 1:
			p.Certainty = Ambiguous
		case !f.named:
			p.Certainty = Unsure
		case agree > 1:
			p.Certainty = Sure
		default:
			p.Certainty = Likely
		}
		pairs = append(pairs, p)
	}
	return pairs
}

// fit is a pair of records, by where they stand, that a key finds.
type fit struct {
	a, b  int
	key   int  // the strongest that finds it, by where it stands
	alone int  // the strongest that finds just this record on either side, past the last when none does
	named bool // they have one name
}

func allFits(a, b []Record, keys []Key, m Matching) (all []fit) {
	mine, others := recordsBy(a, keys, m), recordsBy(b, keys, m)
	for i, r := range a {
		first := len(all)
		for n, k := range keys {
			v := keyOf(r, k, m)
			if len(mine[k][v]) > mostAlike || len(others[k][v]) > mostAlike {
				continue
			}
			for _, j := range others[k][v] {
				at := slices.IndexFunc(all[first:], func(f fit) bool { return f.b == j })
				if at < 0 {
					at = len(all) - first
					all = append(all, fit{i, j, n, len(keys), sameName(r, b[j])})
				}
				if f := &all[first+at]; len(mine[k][v]) == 1 && len(others[k][v]) == 1 {
					f.alone = min(f.alone, n)
				}
			}
		}
	}
	return all
}

// decided leaves out what only weaker keys find of a record that a key has decided about.
func decided(all []fit) []fit {
	byA, byB := map[int]int{}, map[int]int{}
	keep := func(by map[int]int, who, key int) {
		if had, there := by[who]; !there || key < had {
			by[who] = key
		}
	}
	for _, f := range all {
		if f.named && f.key == f.alone {
			keep(byA, f.a, f.key)
			keep(byB, f.b, f.key)
		}
	}
	return slices.DeleteFunc(all, func(f fit) bool {
		x, there := byA[f.a]
		y, here := byB[f.b]
		return there && f.key > x || here && f.key > y
	})
}

// signsOf says what speaks for and against two records being one person's, and how many keys agree.
func signsOf(a, b Record, keys []Key, m Matching) (signs []Sign, agree int) {
	for _, k := range keys {
		one, other := keyOf(a, k, m), keyOf(b, k, m)
		switch {
		case one != "" && one == other:
			agree++
			signs = append(signs, map[Key]Sign{
				KeyIdentifier: SameIdentifier, KeyEmail: SameEmail, KeyUserName: SameUserName,
			}[k])
		case one == "" || other == "":
		case k == KeyEmail:
			signs = append(signs, OtherEmail)
		case k == KeyIdentifier:
			signs = append(signs, OtherID)
		}
	}
	if sameName(a, b) {
		return append(signs, SameName), agree
	}
	return append(signs, OtherName), agree
}

// mostAlike is how many records of a register may share what a key finds: what more share says nothing of anybody.
const mostAlike = 10

// recordsBy finds records by each key. Keys that are empty fit nobody.
func recordsBy(list []Record, keys []Key, m Matching) map[Key]map[string][]int {
	out := make(map[Key]map[string][]int, len(keys))
	for _, k := range keys {
		out[k] = make(map[string][]int, len(list))
		for i, r := range list {
			if v := keyOf(r, k, m); v != "" {
				out[k][v] = append(out[k][v], i)
			}
		}
	}
	return out
}

func keyOf(r Record, k Key, m Matching) string {
	switch k {
	case KeyIdentifier:
		return strings.TrimSpace(r.Identifier)
	case KeyEmail:
		key, err := AddressKey(m.Address(r.Email, ""))
		if err != nil {
			return ""
		}
		return key
	case KeyUserName:
		return strings.ToLower(strings.TrimSpace(r.UserName))
	}
	return ""
}

// sameName reports whether two records have one name; either may have its parts the other way round.
func sameName(a, b Record) bool {
	plain := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(norm.NFC.String(s)), " ")) }
	ag, af, bg, bf := plain(a.Given), plain(a.Family), plain(b.Given), plain(b.Family)
	return cmp.Or(ag, af) != "" && (ag == bg && af == bf || ag == bf && af == bg)
}
