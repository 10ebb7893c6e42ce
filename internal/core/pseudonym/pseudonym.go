// Package pseudonym replaces the names, user names and e-mail addresses of people in texts with made-up ones, so
// that a screen can be shown to others.
//
//	names := pseudonym.NewNames()
//	names.Person("Ada", "Alder", "ada.alder")
//	hider := pseudonym.Hider{Names: names, Key: key}
//	hider.Text("Ada Alder <ada@school.example> is in the class") // Brolo Tindow <melis@hidden.example> is in the class
//
// The same name is always replaced with the same made-up one under the same key, and nobody without the key can tell
// which. What is made up is no name of anybody that is known.
package pseudonym

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Domain is where made-up addresses are.
const Domain = "hidden.example"

// Mark is an invisible character that a made-up name or address ends with, where a Hider marks them (U+2060, word
// joiner).
const Mark = "\u2060"

// longestName is of how many words a name is that is looked for as a whole.
const longestName = 6

// longestUncased is of how many letters a name is that is looked for where no spaces stand between words.
const longestUncased = 8

// Names are what is to be replaced. Build one, then use it from anywhere.
type Names struct {
	words  map[string]bool // parts of names
	whole  map[string]bool // names as a whole, their words with a space between
	logins map[string]bool
	kept   map[string]bool // words that mean something else too
	titles map[string]bool // of what is no person
	more   *Names          // a few besides; nil for none
}

// NewNames gives one without any.
func NewNames() *Names {
	n := &Names{
		words: map[string]bool{}, whole: map[string]bool{}, logins: map[string]bool{}, kept: map[string]bool{},
		titles: map[string]bool{},
	}
	for _, w := range plain {
		n.kept[w] = true
	}
	return n
}

// plain are words that are names of people too, and mean something else when they stand alone.
var plain = strings.Fields("january february march april may june july august september october november december " +
	"monday tuesday wednesday thursday friday saturday sunday will mark can open rich art bill")

// Person adds somebody; what is not known of them is empty.
func (n *Names) Person(given, family, login string) {
	first, last := words(given), words(family)
	for _, w := range append(first, last...) {
		if lower := strings.ToLower(w); utf8.RuneCountInString(w) > 1 || uncased(w) {
			n.words[lower] = true
		}
	}
	if len(first) > 0 && len(last) > 0 {
		n.whole[joined(first)+" "+joined(last)], n.whole[joined(last)+" "+joined(first)] = true, true
	} else if all := append(first, last...); len(all) > 1 {
		n.whole[joined(all)] = true
	}
	if len(first) == 1 && len(last) == 1 && uncased(first[0]) { // such as written without a space
		n.words[last[0]+first[0]], n.words[first[0]+last[0]] = true, true
	}
	if login = strings.ToLower(strings.TrimSpace(login)); len(login) > 2 && !strings.Contains(login, "@") {
		n.logins[login] = true
	}
}

// Keep adds the words of a text that is not about a person, such as the title of a course: alone they are no names.
func (n *Names) Keep(title string) {
	all := words(title)
	for _, w := range all {
		n.kept[strings.ToLower(w)] = true
	}
	n.titles[joined(all)] = true
}

// With gives the names with a few more besides.
func (n *Names) With(more []string) *Names {
	if len(more) == 0 {
		return n
	}
	both := *n
	both.more = NewNames()
	for _, name := range more {
		both.more.Person(name, "", "")
	}
	return &both
}

// part reports whether a word is a part of a name, and name whether words are one as a whole; both in lower case.
func (n *Names) part(word string) bool { return n.words[word] || n.more != nil && n.more.words[word] }

func (n *Names) name(words string) bool {
	return n.whole[words] || n.more != nil && n.more.whole[words]
}

// Hider replaces them.
type Hider struct {
	Names *Names
	Key   []byte // which made-up name is whose hangs on it
	Marks bool   // whether what is made up ends with Mark
}

var address = regexp.MustCompile(`[\p{L}\p{N}._%+'-]+@[\p{L}\p{N}-]+(\.[\p{L}\p{N}-]+)+`)

// runs gives where in a text the runs of characters are that belong together.
func runs(text string, belongs func(rune) bool) (at [][2]int) {
	from := -1
	for i, r := range text {
		switch in := belongs(r); {
		case in && from < 0:
			from = i
		case !in && from >= 0:
			at, from = append(at, [2]int{from, i}), -1
		}
	}
	if from >= 0 {
		at = append(at, [2]int{from, len(text)})
	}
	return at
}

func ofWord(r rune) bool {
	if r < utf8.RuneSelf {
		return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9'
	}
	return unicode.In(r, unicode.L, unicode.M, unicode.N)
}

func ofLogin(r rune) bool { return r == '.' || r == '_' || r == '-' || ofWord(r) }

func words(text string) []string {
	at := runs(text, ofWord)
	out := make([]string, len(at))
	for i, x := range at {
		out[i] = text[x[0]:x[1]]
	}
	return out
}

func joined(all []string) string { return strings.ToLower(strings.Join(all, " ")) }

// uncased reports whether a word is written without capitals, as in many scripts.
func uncased(w string) bool {
	r, _ := utf8.DecodeRuneInString(w)
	return unicode.IsLetter(r) && !unicode.IsUpper(r) && !unicode.IsLower(r) && !unicode.IsTitle(r)
}

// Text replaces the names, user names and addresses in a text.
func (h Hider) Text(text string) string {
	if !strings.ContainsFunc(text, unicode.IsLetter) {
		return text
	}
	if !strings.Contains(text, "@") {
		return h.named(text)
	}
	at := address.FindAllStringIndex(text, -1)
	var b strings.Builder
	from := 0
	for _, x := range at {
		b.WriteString(h.named(text[from:x[0]]))
		b.WriteString(h.address(text[x[0]:x[1]]))
		from = x[1]
	}
	b.WriteString(h.named(text[from:]))
	return b.String()
}

func (h Hider) address(a string) string {
	if strings.HasSuffix(a, "@"+Domain) {
		return a
	}
	return strings.ToLower(h.made("address "+strings.ToLower(a), 0)) + "@" + Domain + h.mark()
}

func (h Hider) mark() string {
	if h.Marks {
		return Mark
	}
	return ""
}

// named replaces the names in a text without addresses.
func (h Hider) named(text string) string {
	text = h.loggedIn(text)
	at := runs(text, ofWord)
	var b strings.Builder
	from := 0
	for i := 0; i < len(at); {
		n := h.name(text, at[i:])
		for _, x := range at[i : i+n] {
			b.WriteString(text[from:x[0]])
			b.WriteString(h.made(strings.ToLower(text[x[0]:x[1]]), 0) + h.mark())
			from = x[1]
		}
		if w := text[at[i][0]:at[i][1]]; n == 0 && uncased(w) {
			if inside := h.inside(w); inside != w {
				b.WriteString(text[from:at[i][0]] + inside)
				from = at[i][1]
			}
		}
		i += max(n, 1)
	}
	if from == 0 {
		return text
	}
	b.WriteString(text[from:])
	return b.String()
}

// loggedIn replaces the user names in a text. One that is a plain word is one only where nothing else stands.
func (h Hider) loggedIn(text string) string {
	var b strings.Builder
	from := 0
	for _, x := range runs(text, ofLogin) {
		w := strings.Trim(text[x[0]:x[1]], ".-_")
		lower := strings.ToLower(w)
		if !h.Names.logins[lower] || h.Names.kept[lower] || !strings.ContainsAny(lower, "._-0123456789") && w != text {
			continue
		}
		at := x[0] + strings.Index(text[x[0]:x[1]], w)
		b.WriteString(text[from:at] + strings.ToLower(h.made("login "+lower, 0)) + h.mark())
		from = at + len(w)
	}
	return b.String() + text[from:]
}

// inside replaces the names in letters of a script that puts no spaces between words.
func (h Hider) inside(run string) string {
	letters := []rune(run)
	var b strings.Builder
	for i := 0; i < len(letters); {
		n := min(len(letters)-i, longestUncased)
		for n > 1 && !h.Names.part(string(letters[i:i+n])) {
			n--
		}
		if n > 1 {
			b.WriteString(h.made(string(letters[i:i+n]), 0) + h.mark())
		} else {
			b.WriteRune(letters[i])
		}
		i += max(n, 1)
	}
	return b.String()
}

// name gives how many of the words, from the first on, are a name.
func (h Hider) name(text string, at [][2]int) int {
	first := text[at[0][0]:at[0][1]]
	if !h.Names.part(strings.ToLower(first)) && utf8.RuneCountInString(first) > 1 {
		return 0
	}
	last := 1 // words that stand side by side, with a space, a comma, a hyphen or an apostrophe between
	for last < min(len(at), longestName) && beside(text[at[last-1][1]:at[last][0]]) {
		last++
	}
	all := make([]string, last)
	for i := range all {
		all[i] = strings.ToLower(text[at[i][0]:at[i][1]])
	}
	for n := last; n > 1; n-- {
		if h.Names.name(strings.Join(all[:n], " ")) {
			return n
		}
	}
	n := 0 // words that are parts of names, and look like it
	for n < last && h.Names.part(all[n]) && capital(text[at[n][0]:at[n][1]]) {
		n++
	}
	for _, w := range all[:n] {
		if !h.Names.kept[w] {
			return n
		}
	}
	return 0
}

func beside(between string) bool {
	switch between {
	case " ", ", ", "-", "'", "’", "\u00a0", Mark, Mark + " ":
		return true
	}
	return false
}

func capital(w string) bool {
	r, _ := utf8.DecodeRuneInString(w)
	return unicode.IsUpper(r) || unicode.IsTitle(r) || uncased(w)
}

// The syllables of made-up names.
var (
	begins  = strings.Fields("B D F G H K L M N P R S T V W Br Dr Gr Tr St Cl Fl Pl Sl")
	middles = strings.Fields("al an ar el en er il in ir ol on or ul un ald and arr ell end inn old orn und ath eth oth")
	ends    = strings.Fields("a en ick ow is ey on er ine ett or an el ie us ah by dow lin mer nor ran sy tan ver wick")
)

// made makes up a name for one: always the same, and nobody's that is known.
func (h Hider) made(name string, again uint32) string {
	mac := hmac.New(sha256.New, h.Key)
	mac.Write(binary.BigEndian.AppendUint32(nil, again))
	mac.Write([]byte(name))
	sum := mac.Sum(nil)
	pick := func(from []string, n int) string { return from[int(binary.BigEndian.Uint32(sum[n:]))%len(from)] }
	out := pick(begins, 0) + pick(middles, 4) + pick(ends, 8)
	if lower := strings.ToLower(out); again < 100 && (h.Names.part(lower) || h.Names.kept[lower]) {
		return h.made(name, again+1)
	}
	return out
}
