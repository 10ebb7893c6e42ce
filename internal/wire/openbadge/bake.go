package openbadge

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"kanban/internal/core/badge"
)

// ErrPicture is wrapped by every reason for which a picture cannot carry a credential or has none.
var ErrPicture = errors.New("picture cannot be used")

const (
	bakeKeyword   = "openbadgecredential"
	bakeKeyword2  = "openbadges" // of Open Badges 2.0
	bakeNamespace = "https://purl.imsglobal.org/ob/v3p0"
	// mostPicture bounds what is read of a picture, in bytes.
	mostPicture = 8 << 20
	// mostCredential bounds a credential, in bytes.
	mostCredential = 1 << 20
)

// BakePNG puts a credential (JSON with its proof inside, or a compact JWS) into a PNG, in place of one that is there
// (Open Badges 3.0, "Baking": one iTXt chunk of the keyword openbadgecredential, not compressed).
func BakePNG(picture, credential []byte) ([]byte, error) {
	chunks, err := chunksOf(picture)
	if err != nil {
		return nil, err
	}
	out := bytes.NewBuffer(bytes.Clone(badge.PNGMark))
	for _, c := range chunks {
		if key, _, ok := c.text(); ok && key == bakeKeyword {
			continue
		}
		if c.kind == "IEND" {
			data := append([]byte(bakeKeyword), 0, 0, 0, 0, 0) // not compressed, no language, no translation
			chunk{"iTXt", append(data, credential...)}.write(out)
		}
		c.write(out)
	}
	return out.Bytes(), nil
}

// chunk is a part of a PNG (RFC 2083, 3.2).
type chunk struct {
	kind string
	data []byte
}

func (c chunk) write(out *bytes.Buffer) {
	_ = binary.Write(out, binary.BigEndian, uint32(len(c.data))) //nolint:gosec // bounded by mostPicture
	sum := crc32.NewIEEE()
	for _, part := range [][]byte{[]byte(c.kind), c.data} {
		_, _ = sum.Write(part)
		_, _ = out.Write(part)
	}
	_ = binary.Write(out, binary.BigEndian, sum.Sum32())
}

// text reads an iTXt chunk: its keyword, and its text.
func (c chunk) text() (keyword string, text []byte, ok bool) {
	if c.kind != "iTXt" {
		return "", nil, false
	}
	key, rest, found := bytes.Cut(c.data, []byte{0})
	if !found || len(rest) < 2 {
		return "", nil, false
	}
	packed, rest := rest[0] == 1, rest[2:]
	for range 2 { // language and translated keyword
		if _, rest, found = bytes.Cut(rest, []byte{0}); !found {
			return "", nil, false
		}
	}
	if packed {
		r, err := zlib.NewReader(bytes.NewReader(rest))
		if err != nil {
			return "", nil, false
		}
		if rest, err = io.ReadAll(io.LimitReader(r, mostCredential+1)); err != nil {
			return "", nil, false
		}
	}
	return string(key), rest, true
}

func chunksOf(picture []byte) (all []chunk, err error) {
	if len(picture) > mostPicture {
		return nil, fmt.Errorf("%w: it is larger than %d MB", ErrPicture, mostPicture>>20)
	}
	rest, ok := bytes.CutPrefix(picture, badge.PNGMark)
	if !ok {
		return nil, fmt.Errorf("%w: it is no PNG", ErrPicture)
	}
	for {
		if len(rest) < 12 {
			return nil, fmt.Errorf("%w: the PNG is cut off", ErrPicture)
		}
		n := int64(binary.BigEndian.Uint32(rest))
		if n > int64(len(rest)-12) {
			return nil, fmt.Errorf("%w: the PNG is cut off", ErrPicture)
		}
		c := chunk{string(rest[4:8]), rest[8 : 8+n]}
		if binary.BigEndian.Uint32(rest[8+n:]) != crc32.ChecksumIEEE(rest[4:8+n]) {
			return nil, fmt.Errorf("%w: a part of the PNG is damaged", ErrPicture)
		}
		all, rest = append(all, c), rest[12+n:]
		if c.kind == "IEND" {
			return all, nil
		}
	}
}

// BakeSVG puts a credential into an SVG, in place of one that is there (Open Badges 3.0, "Baking": the first child of
// the root, in the namespace openbadges).
func BakeSVG(picture, credential []byte) ([]byte, error) {
	old, end, err := svgParts(picture)
	if err != nil {
		return nil, err
	}
	var element bytes.Buffer
	element.WriteString("<openbadges:credential")
	if isToken(credential) {
		fmt.Fprintf(&element, ` verify="%s">`, credential)
	} else {
		element.WriteString("><![CDATA[" + strings.ReplaceAll(string(credential), "]]>", "]]\\u003e") + "]]>")
	}
	element.WriteString("</openbadges:credential>")
	var out bytes.Buffer
	at := int64(0)
	if !bytes.Contains(picture[:end], []byte("xmlns:openbadges=")) {
		out.Write(picture[:end-1])
		fmt.Fprintf(&out, ` xmlns:openbadges="%s"`, bakeNamespace)
		at = end - 1
	}
	out.Write(picture[at:end])
	out.Write(element.Bytes())
	at = end
	for _, cut := range old {
		out.Write(picture[at:cut.from])
		at = cut.to
	}
	out.Write(picture[at:])
	return out.Bytes(), nil
}

// span is a part of a text, in bytes.
type span struct{ from, to int64 }

// svgParts finds the credentials in an SVG, and where its root element's start tag ends.
func svgParts(picture []byte) (old []span, end int64, err error) {
	if len(picture) > mostPicture {
		return nil, 0, fmt.Errorf("%w: it is larger than %d MB", ErrPicture, mostPicture>>20)
	}
	d := xml.NewDecoder(bytes.NewReader(picture))
	depth := 0
	for {
		from := d.InputOffset()
		token, err := d.Token()
		if errors.Is(err, io.EOF) && depth == 0 && end > 0 {
			return old, end, nil
		}
		if err != nil {
			return nil, 0, fmt.Errorf("%w: the SVG cannot be read: %w", ErrPicture, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			if end == 0 {
				if t.Name.Local != "svg" {
					return nil, 0, fmt.Errorf("%w: it is no SVG", ErrPicture)
				}
				if end = d.InputOffset(); bytes.HasSuffix(picture[:end], []byte("/>")) {
					return nil, 0, fmt.Errorf("%w: the SVG shows nothing", ErrPicture)
				}
			} else if t.Name.Space == bakeNamespace && t.Name.Local == "credential" {
				if err := d.Skip(); err != nil {
					return nil, 0, fmt.Errorf("%w: the SVG cannot be read: %w", ErrPicture, err)
				}
				depth--
				old = append(old, span{from, d.InputOffset()})
			}
		case xml.EndElement:
			depth--
		}
	}
}

// Unbake takes the credential out of a picture, or gives back what is no picture: JSON or a compact JWS.
func Unbake(file []byte) ([]byte, error) {
	switch trimmed := bytes.TrimSpace(bytes.TrimPrefix(file, []byte("\ufeff"))); {
	case bytes.HasPrefix(file, badge.PNGMark):
		return fromPNG(file)
	case bytes.HasPrefix(trimmed, []byte("<")):
		return fromSVG(trimmed)
	case len(trimmed) > mostCredential:
		return nil, fmt.Errorf("%w: it is larger than %d kB", ErrInvalid, mostCredential>>10)
	default:
		return trimmed, nil
	}
}

func fromPNG(file []byte) ([]byte, error) {
	chunks, err := chunksOf(file)
	if err != nil {
		return nil, err
	}
	old := false
	for _, c := range chunks {
		key, text, ok := c.text()
		switch {
		case ok && key == bakeKeyword && len(text) <= mostCredential:
			return bytes.TrimSpace(text), nil
		case ok && key == bakeKeyword2, c.kind == "tEXt" && bytes.HasPrefix(c.data, []byte(bakeKeyword2+"\x00")):
			old = true
		}
	}
	if old {
		return nil, fmt.Errorf("%w: it carries a badge of Open Badges 2.0, which is not checked here", ErrPicture)
	}
	return nil, fmt.Errorf("%w: no badge is in it; pictures lose it when they are edited or sent through some programs", ErrPicture)
}

func fromSVG(file []byte) ([]byte, error) {
	old, _, err := svgParts(file)
	if err != nil {
		return nil, err
	}
	if len(old) != 1 {
		return nil, fmt.Errorf("%w: it carries %d badges, expected 1", ErrPicture, len(old))
	}
	var element struct {
		Verify string `xml:"verify,attr"`
		Text   []byte `xml:",chardata"`
	}
	d := xml.NewDecoder(bytes.NewReader(file))
	for {
		token, err := d.Token()
		if err != nil {
			return nil, fmt.Errorf("%w: the SVG cannot be read: %w", ErrPicture, err)
		}
		t, ok := token.(xml.StartElement)
		if !ok || t.Name.Space != bakeNamespace || t.Name.Local != "credential" {
			continue
		}
		if err := d.DecodeElement(&element, &t); err != nil {
			return nil, fmt.Errorf("%w: the SVG cannot be read: %w", ErrPicture, err)
		}
		text := []byte(strings.TrimSpace(element.Verify))
		if len(text) == 0 {
			text = bytes.TrimSpace(element.Text)
		}
		if len(text) == 0 || len(text) > mostCredential {
			return nil, fmt.Errorf("%w: the badge in it is empty or larger than %d kB", ErrPicture, mostCredential>>10)
		}
		return text, nil
	}
}

// isToken reports whether a credential is a compact JWS.
func isToken(credential []byte) bool {
	return !bytes.HasPrefix(bytes.TrimSpace(credential), []byte("{")) && bytes.Count(credential, []byte(".")) == 2
}
