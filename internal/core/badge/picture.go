package badge

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"regexp"
	"slices"
	"strings"
)

// Kinds of pictures.
const (
	PNG = "image/png"
	SVG = "image/svg+xml"
)

// Bounds of a picture.
const (
	MostPNG   = 2 << 20 // bytes
	MostSVG   = 256 << 10
	leastSide = 90 // pixels
	mostSide  = 2048
	mostDepth = 64
	mostNodes = 20_000
)

// ErrPicture is wrapped by every reason for which a picture is refused.
var ErrPicture = errors.New("picture is refused")

// PNGMark begins every PNG (RFC 2083, 3.1).
var PNGMark = []byte("\x89PNG\r\n\x1a\n")

// CheckPicture looks at an uploaded picture of a badge and gives it as it is to be kept: a PNG written anew, without
// anything that is hidden in it, or an SVG as it is, if it does nothing but draw.
func CheckPicture(content []byte) (kind string, clean []byte, err error) {
	if bytes.HasPrefix(content, PNGMark) {
		clean, err = checkPNG(content)
		return PNG, clean, err
	}
	if bytes.HasPrefix(bytes.TrimLeft(bytes.TrimPrefix(content, []byte("\ufeff")), " \t\r\n"), []byte("<")) {
		return SVG, content, checkSVG(content)
	}
	return "", nil, fmt.Errorf("%w: it is neither a PNG nor an SVG", ErrPicture)
}

func checkPNG(content []byte) ([]byte, error) {
	if len(content) > MostPNG {
		return nil, fmt.Errorf("%w: the PNG is larger than %d MB", ErrPicture, MostPNG>>20)
	}
	size, err := png.DecodeConfig(bytes.NewReader(content))
	if err != nil {
		return nil, fmt.Errorf("%w: the PNG cannot be read: %w", ErrPicture, err)
	}
	switch short, long := min(size.Width, size.Height), max(size.Width, size.Height); {
	case short < leastSide:
		return nil, fmt.Errorf("%w: it is %d × %d pixels; at least %d are needed", ErrPicture, size.Width, size.Height,
			leastSide)
	case long > mostSide:
		return nil, fmt.Errorf("%w: it is %d × %d pixels; at most %d are taken", ErrPicture, size.Width, size.Height, mostSide)
	case long > short+short/10:
		return nil, fmt.Errorf("%w: it is %d × %d pixels; badges are square", ErrPicture, size.Width, size.Height)
	}
	var drawn image.Image
	if drawn, err = png.Decode(bytes.NewReader(content)); err != nil {
		return nil, fmt.Errorf("%w: the PNG cannot be read: %w", ErrPicture, err)
	}
	var out bytes.Buffer
	err = png.Encode(&out, drawn)
	return out.Bytes(), err
}

// What an SVG may be made of: drawing, and nothing that runs, fetches or leads elsewhere.
var svgElements = strings.Fields(`svg g defs symbol use title desc metadata path rect circle ellipse line polyline polygon
	text tspan textPath linearGradient radialGradient stop pattern clipPath mask marker filter style
	feBlend feColorMatrix feComponentTransfer feComposite feDropShadow feFlood feFuncA feFuncB feFuncG feFuncR feGaussianBlur
	feMerge feMergeNode feMorphology feOffset feTurbulence`)

const svgNamespace = "http://www.w3.org/2000/svg"

// outward finds what a style or an attribute would fetch: an address that is not a part of the picture itself, or an
// escape behind which one could hide.
var outward = regexp.MustCompile(`(?i)@import|\\|url\(\s*["']?\s*[^"'#\s)]|expression\(|javascript:|data:|image\(|image-set\(|src\(`)

func checkSVG(content []byte) error {
	if len(content) > MostSVG {
		return fmt.Errorf("%w: the SVG is larger than %d kB", ErrPicture, MostSVG>>10)
	}
	d := xml.NewDecoder(bytes.NewReader(bytes.TrimPrefix(content, []byte("\ufeff"))))
	depth, nodes, sized := 0, 0, false
	style := false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) && nodes > 0 {
			break
		}
		if err != nil {
			return fmt.Errorf("%w: the SVG cannot be read: %w", ErrPicture, err)
		}
		switch t := token.(type) {
		case xml.Directive:
			return fmt.Errorf("%w: the SVG has a document type, which is not needed", ErrPicture)
		case xml.ProcInst:
			if t.Target != "xml" || nodes > 0 {
				return fmt.Errorf("%w: the SVG has an instruction %q", ErrPicture, t.Target)
			}
		case xml.StartElement:
			if depth, nodes = depth+1, nodes+1; depth > mostDepth || nodes > mostNodes {
				return fmt.Errorf("%w: the SVG has more than %d elements, or more than %d inside each other", ErrPicture,
					mostNodes, mostDepth)
			}
			if nodes == 1 {
				if t.Name.Local != "svg" || t.Name.Space != svgNamespace {
					return fmt.Errorf("%w: it is no SVG", ErrPicture)
				}
				sized = slices.ContainsFunc(t.Attr, func(a xml.Attr) bool { return a.Name.Local == "viewBox" })
			}
			if err := checkElement(t); err != nil {
				return err
			}
			style = t.Name.Local == "style"
		case xml.EndElement:
			depth--
			style = false
		case xml.CharData:
			if style && outward.Match(t) {
				return fmt.Errorf("%w: a style in the SVG would fetch something", ErrPicture)
			}
		}
	}
	if !sized {
		return fmt.Errorf("%w: the SVG has no viewBox, so that it cannot be shown in another size", ErrPicture)
	}
	return nil
}

func checkElement(t xml.StartElement) error {
	if t.Name.Space != svgNamespace || !slices.Contains(svgElements, t.Name.Local) {
		return fmt.Errorf("%w: the SVG has an element %q, which does more than draw", ErrPicture, t.Name.Local)
	}
	for _, a := range t.Attr {
		name := strings.ToLower(a.Name.Local)
		value := strings.TrimSpace(a.Value)
		switch {
		case a.Name.Space == "xmlns" || a.Name.Space == "" && name == "xmlns":
		case strings.HasPrefix(name, "on"):
			return fmt.Errorf("%w: the SVG has a script (%s)", ErrPicture, a.Name.Local)
		case name == "href" && !strings.HasPrefix(value, "#"), name == "base", name == "src":
			return fmt.Errorf("%w: the SVG leads elsewhere (%s)", ErrPicture, a.Name.Local)
		case outward.MatchString(value):
			return fmt.Errorf("%w: %s in the SVG would fetch something", ErrPicture, a.Name.Local)
		}
	}
	return nil
}
