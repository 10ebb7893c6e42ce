package cartridge

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
)

// mostManifest is how large a manifest may be, in bytes.
const mostManifest = 8 << 20

// Manifest gives the manifest in a package (.imscc: a ZIP with imsmanifest.xml at its
// root); what is no ZIP is taken for the manifest itself. Nothing else of a package is
// read, however large it is.
func Manifest(r io.ReaderAt, size int64) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := r.ReadAt(head, 0); err == nil && string(head) == "PK\x03\x04" {
		z, err := zip.NewReader(r, size)
		if err != nil {
			return nil, fmt.Errorf("%w: the package cannot be opened: %w", ErrManifest, err)
		}
		f, err := z.Open("imsmanifest.xml")
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%w: the package has no imsmanifest.xml at its root", ErrManifest)
		}
		if err != nil {
			return nil, fmt.Errorf("%w: the package cannot be read: %w", ErrManifest, err)
		}
		defer f.Close()
		return bounded(f)
	}
	return bounded(io.NewSectionReader(r, 0, size))
}

func bounded(r io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, mostManifest+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	case len(text) > mostManifest:
		return nil, fmt.Errorf("%w: it has more than %d bytes", ErrManifest, mostManifest)
	}
	return text, nil
}
