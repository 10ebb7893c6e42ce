package grade

// Class is a class of an interface, between which scores are carried.
type Class struct{ Interface, Class string }

// Link carries scores from a class at the source to one in a book.
type Link struct {
	ID           string
	Source, Book Class
}

// Circle gives the links through which scores would come back to where they were
// marked if one more were made, in order; none when there is no such way. A link whose
// source is its own book is a circle of itself.
func Circle(links []Link, more Link) []Link {
	if more.Source == more.Book {
		return []Link{more}
	}
	from := map[Class][]Link{}
	for _, l := range links {
		if l.ID != more.ID {
			from[l.Source] = append(from[l.Source], l)
		}
	}
	seen := map[Class]bool{}
	var way func(at Class) []Link
	way = func(at Class) []Link {
		if at == more.Source {
			return []Link{}
		}
		if seen[at] {
			return nil
		}
		seen[at] = true
		for _, l := range from[at] {
			if rest := way(l.Book); rest != nil {
				return append([]Link{l}, rest...)
			}
		}
		return nil
	}
	if rest := way(more.Book); rest != nil {
		return append([]Link{more}, rest...)
	}
	return nil
}

// Written gives the line items of the book that two links would write, by the ids of
// both: each is written by one of them only.
func Written(links map[string][]string) map[string][]string {
	by := map[string][]string{}
	for link, items := range links {
		for _, item := range items {
			by[item] = append(by[item], link)
		}
	}
	for item, list := range by {
		if len(list) < 2 {
			delete(by, item)
		}
	}
	return by
}
