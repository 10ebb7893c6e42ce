package oneroster

import "strings"

// NextLink finds the target of the link with rel "next" in Link headers (RFC
// 8288 3), or "". Commas and semicolons inside <> and quotes do not separate.
func NextLink(headers []string) string {
	for _, header := range headers {
		for _, link := range split(header, ',') {
			parts := split(link, ';')
			target := strings.TrimSpace(parts[0])
			if !strings.HasPrefix(target, "<") || !strings.HasSuffix(target, ">") {
				continue
			}
			if relOf(parts[1:])["next"] {
				return target[1 : len(target)-1]
			}
		}
	}
	return ""
}

// relOf gives the names in the first rel parameter.
func relOf(parameters []string) map[string]bool {
	for _, p := range parameters {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		if !strings.EqualFold(strings.TrimSpace(name), "rel") {
			continue
		}
		names := map[string]bool{}
		for _, n := range strings.Fields(strings.Trim(strings.TrimSpace(value), `"`)) {
			names[strings.ToLower(n)] = true
		}
		return names
	}
	return nil
}

// split cuts text at separators that stand outside <> and quotes.
func split(text string, separator byte) []string {
	var parts []string
	start, quoted, angled := 0, false, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"' && !angled:
			quoted = !quoted
		case c == '<' && !quoted:
			angled = true
		case c == '>' && !quoted:
			angled = false
		case c == separator && !quoted && !angled:
			parts = append(parts, text[start:i])
			start = i + 1
		}
	}
	return append(parts, text[start:])
}
