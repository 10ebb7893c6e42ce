package oneroster

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// How many lines, and bytes, one row may have: a value may hold line breaks (RFC 4180,
// section 2, rule 6), but a quote that is not closed must not swallow the rows after it.
const (
	mostLines   = 50
	longestRow  = 256 << 10
	longestLine = 1 << 20
)

// records reads a table of CSV row by row. A row that is broken costs itself alone: the lines
// after it are read as rows of their own.
type records struct {
	in     *bufio.Reader
	width  int      // values of a row, 0 until the header is known
	open   bool     // the last line has no end
	behind []string // lines that were taken for the rest of a row and are none
	line   int      // of the line read last

	feed   strings.Reader
	fed    int64 // bytes given to the parser
	parser *csv.Reader
	values []string
}

func newRecords(in *bufio.Reader) *records { return &records{in: in} }

// record is one row: its values, or what is wrong with it.
type record struct {
	line   int
	values []string // valid until the next one
	text   string   // of its first line, when it is broken
	cause  string   // why it is broken, "" when it is not
}

// next reads a row; io.EOF is the end.
func (r *records) next() (record, error) {
	for {
		text, err := r.take()
		if err != nil {
			return record{}, err
		}
		out := record{line: r.line}
		if len(text) > longestLine {
			out.text, out.cause = text[:longestLine], fmt.Sprintf("the line is longer than %d bytes", longestLine)
			return out, nil
		}
		bare := strings.TrimRight(text, "\r\n")
		if bare == "" {
			continue
		}
		quotes := strings.Count(bare, `"`)
		if quotes == 0 {
			out.values = r.split(bare)
			return out, nil
		}
		whole, more, err := r.rest(text, quotes)
		if err != nil {
			return record{}, err
		}
		if out.values, out.cause = r.parse(whole); out.cause == "" && len(more) > 0 &&
			(len(out.values) != r.width || r.holdsRows(whole)) {
			out.cause = "a quote is not closed"
		}
		if out.cause != "" {
			out.text, out.values = text, nil
			r.behind = append(more, r.behind...)
			r.line -= len(more)
		}
		return out, nil
	}
}

// take gives the next line with its end.
func (r *records) take() (string, error) {
	r.line++
	if len(r.behind) > 0 {
		text := r.behind[0]
		r.behind = r.behind[1:]
		return text, nil
	}
	part, err := r.in.ReadSlice('\n')
	if err == nil {
		return string(part), nil
	}
	long := append([]byte(nil), part...)
	for errors.Is(err, bufio.ErrBufferFull) {
		part, err = r.in.ReadSlice('\n')
		if len(long) <= longestLine { // of a longer one the beginning is enough
			long = append(long, part...)
		}
	}
	if err != nil && (err != io.EOF || len(long) == 0) {
		return "", err
	}
	r.open = err == io.EOF
	return string(long), nil
}

// rest adds the lines that a row goes on in while its quotes are open.
func (r *records) rest(text string, quotes int) (whole string, more []string, err error) {
	if quotes%2 == 0 {
		return text, nil, nil
	}
	var all strings.Builder
	all.WriteString(text)
	for quotes%2 == 1 && len(more) < mostLines && all.Len() < longestRow {
		next, err := r.take()
		if err == io.EOF {
			r.line--
			break
		}
		if err != nil {
			return "", nil, err
		}
		more = append(more, next)
		all.WriteString(next)
		quotes += strings.Count(next, `"`)
	}
	return all.String(), more, nil
}

// holdsRows reports whether what reads as one row over several lines has the commas of two:
// then a quote that is not closed has swallowed one.
func (r *records) holdsRows(whole string) bool {
	return r.width > 2 && strings.Count(whole, ",") >= 2*(r.width-1)
}

// split gives the values of a row without quotes.
func (r *records) split(text string) []string {
	r.values = r.values[:0]
	for {
		value, rest, more := strings.Cut(text, ",")
		r.values = append(r.values, value)
		if !more {
			return r.values
		}
		text = rest
	}
}

// parse reads one row with quotes.
func (r *records) parse(text string) (values []string, cause string) {
	if r.parser == nil {
		r.parser = csv.NewReader(&r.feed)
		r.parser.FieldsPerRecord, r.parser.ReuseRecord, r.fed = -1, true, 0
	}
	r.feed.Reset(text)
	r.fed += int64(len(text))
	values, err := r.parser.Read()
	if err == nil && r.parser.InputOffset() == r.fed {
		return values, ""
	}
	r.parser = nil // it may hold the rest of what it could not read
	var broken *csv.ParseError
	if errors.As(err, &broken) {
		return nil, broken.Err.Error()
	}
	return nil, "its quotes are not in order"
}

// firstOf gives the value at a place of a broken row, when what stands before and after it
// shows that it is whole.
func firstOf(text string, at int) string {
	for range at {
		before, rest, more := strings.Cut(text, ",")
		if !more || strings.Contains(before, `"`) {
			return ""
		}
		text = rest
	}
	if quoted, ok := strings.CutPrefix(text, `"`); ok {
		if value, _, closed := strings.Cut(quoted, `",`); closed && !strings.ContainsAny(value, "\"\r\n") {
			return value
		}
		return ""
	}
	if value, _, more := strings.Cut(text, ","); more && !strings.Contains(value, `"`) {
		return value
	}
	return ""
}

// form recognises files that are no CSV in UTF-8 (OneRoster 1.2 CSV binding), by their beginning.
func form(start []byte) error {
	header, _, lines := bytes.Cut(start, []byte{'\n'})
	switch {
	case bytes.HasPrefix(start, []byte{0xff, 0xfe}), bytes.HasPrefix(start, []byte{0xfe, 0xff}), len(header) > 3 &&
		bytes.Count(header, []byte{0}) > len(header)/4:
		return errors.New("it is written in UTF-16; export it in UTF-8")
	case !lines && bytes.IndexByte(start, '\r') >= 0 && bytes.IndexByte(start, '\r') < len(start)-1:
		return errors.New("its lines end with CR alone; export it with LF or CR LF")
	case bytes.IndexByte(header, ',') < 0 && bytes.IndexByte(header, ';') >= 0:
		return errors.New("its values are separated by semicolons; export it with commas")
	case bytes.IndexByte(header, ',') < 0 && bytes.IndexByte(header, '\t') >= 0:
		return errors.New("its values are separated by tabs; export it with commas")
	}
	return nil
}
