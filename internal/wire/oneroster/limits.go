package oneroster

import (
	"cmp"
	"fmt"
	"io"
)

// Limits of a package: what unpacks beyond them is no register, and must not cost memory or
// time out of proportion to what was sent. A zero value means the default.
type Limits struct {
	// Unpacked bounds one unpacked file, in bytes; 2 GiB.
	Unpacked int64
	// Ratio bounds how much larger than packed a file may be, beyond its first FreeUnpacked
	// bytes; 100. Tables of a register shrink to a tenth to a thirtieth.
	Ratio int64
	// Rows bounds the rows of one file; 20 million.
	Rows int
}

// FreeUnpacked is how much of a file may be unpacked whatever its ratio, in bytes.
const FreeUnpacked = 16 << 20

// LongestField bounds one value, in bytes.
const LongestField = 64 << 10

func (l Limits) orDefault() Limits {
	return Limits{cmp.Or(l.Unpacked, 2<<30), cmp.Or(l.Ratio, 100), cmp.Or(l.Rows, 20_000_000)}
}

// bounded reads an unpacked file up to its limits. A longer file is an error: what follows
// must not look as if it were not there.
type bounded struct {
	from   io.Reader
	packed int64 // how large it is in the archive
	read   int64
	limits Limits
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	b.read += int64(n)
	switch {
	case b.read > b.limits.Unpacked:
		return 0, fmt.Errorf("it unpacks into more than %d MiB", b.limits.Unpacked>>20)
	case b.read > FreeUnpacked && b.read > b.packed*b.limits.Ratio:
		return 0, fmt.Errorf("it unpacks into more than %d times its size, which no register's table does",
			b.limits.Ratio)
	}
	return n, err
}
