package oneroster

import (
	"fmt"
	"io"
)

// Limits of a package: what unpacks beyond them is no register, and must not cost memory or
// time out of proportion to what was sent.
const (
	// MostUnpacked bounds one unpacked file, in bytes.
	MostUnpacked = 2 << 30
	// MostRatio bounds how much larger than packed a file may be, beyond its first
	// FreeUnpacked bytes. Tables of a register shrink to a tenth to a thirtieth.
	MostRatio    = 100
	FreeUnpacked = 16 << 20
	// MostRows bounds the rows of one file.
	MostRows = 20_000_000
	// MostRecord bounds one row and LongestField one value, in bytes.
	MostRecord   = 1 << 20
	LongestField = 64 << 10
)

// bounded reads an unpacked file up to its limits. A longer file is an error: what follows
// must not look as if it were not there.
type bounded struct {
	from   io.Reader
	packed int64 // how large it is in the archive
	read   int64

	record int64 // bytes of the row so far
	state  state
}

// state is where in a row of CSV (RFC 4180) the reader is.
type state byte

const (
	atStart   state = iota // of a value
	inPlain                // in a value without quotes
	inQuotes               // in a value with quotes
	maybeShut              // after a quote in such a value
)

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	b.read += int64(n)
	switch {
	case b.read > MostUnpacked:
		return 0, fmt.Errorf("it unpacks into more than %d GiB", MostUnpacked>>30)
	case b.read > FreeUnpacked && b.read > b.packed*MostRatio:
		return 0, fmt.Errorf("it unpacks into more than %d times its size, which no register's table does", MostRatio)
	}
	for _, c := range p[:n] {
		b.record++
		switch {
		case b.state == inQuotes:
			if c == '"' {
				b.state = maybeShut
			}
		case b.state == maybeShut && c == '"':
			b.state = inQuotes // a quote that is doubled is one of the value
		case c == '\n':
			b.record, b.state = 0, atStart
		case c == ',':
			b.state = atStart
		case b.state == atStart && c == '"':
			b.state = inQuotes
		case c != '\r' || b.state != maybeShut:
			b.state = inPlain
		}
		if b.record > MostRecord {
			return 0, fmt.Errorf("a row is longer than %d bytes; is a quote not closed?", MostRecord)
		}
	}
	return n, err
}
