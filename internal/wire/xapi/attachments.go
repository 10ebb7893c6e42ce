package xapi

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"strings"

	strict "github.com/go-json-experiment/json"
)

// HashHeader names the attachment of a statement whose content a part is (xAPI 1.0.3, Communication 1.5.2).
const HashHeader = "X-Experience-API-Hash"

// AttachmentInfo is what a statement says of an attachment (Data 2.4.11).
type AttachmentInfo struct {
	UsageType   string            `json:"usageType"`
	Display     map[string]string `json:"display"`
	Description map[string]string `json:"description,omitempty"`
	ContentType string            `json:"contentType"`
	Length      int64             `json:"length"` // bytes
	SHA2        string            `json:"sha2"`   // SHA-256 of the content, in hexadecimal digits
	FileURL     string            `json:"fileUrl,omitempty"`
}

// Attachment is the content of one.
type Attachment struct {
	SHA2        string // in lower case
	ContentType string
	Body        []byte
}

// attachments reads and checks what a statement says of its attachments, those of a statement within it too.
func (s Statement) attachments() (all []AttachmentInfo, err error) {
	texts := [][]byte{s.Attachments}
	if s.Object.Others != nil {
		texts = append(texts, s.Object.Others.Attachments)
	}
	for _, text := range texts {
		if len(text) == 0 {
			continue
		}
		var some []AttachmentInfo
		if err := strict.Unmarshal(text, &some, strict.RejectUnknownMembers(true)); err != nil {
			return nil, fmt.Errorf("attachments: %w", err)
		}
		all = append(all, some...)
	}
	for i, a := range all {
		sum, err := hex.DecodeString(a.SHA2)
		switch {
		case err != nil || len(sum) != sha256.Size:
			return nil, fmt.Errorf("attachments[%d].sha2 %q is no SHA-256 in hexadecimal digits", i, a.SHA2)
		case !isIRI(a.UsageType):
			return nil, fmt.Errorf("attachments[%d].usageType %q is not an IRI", i, a.UsageType)
		case a.ContentType == "":
			return nil, fmt.Errorf("attachments[%d].contentType is missing", i)
		case a.Length < 0:
			return nil, fmt.Errorf("attachments[%d].length is below 0", i)
		}
	}
	return all, nil
}

// Multipart reports whether a body of a media type has attachments beside its statements.
func Multipart(contentType string) bool {
	kind, _, err := mime.ParseMediaType(contentType)
	return err == nil && kind == "multipart/mixed"
}

// mostParts bounds how many attachments one request has.
const mostParts = 1000

// SplitMultipart takes statements and the content of their attachments apart (Communication 1.5.2). The
// content of each is held against its hash.
func SplitMultipart(contentType string, body []byte) (statements []byte, parts []Attachment, err error) {
	_, parameters, err := mime.ParseMediaType(contentType)
	if err != nil || parameters["boundary"] == "" {
		return nil, nil, fmt.Errorf("%w: the media type names no boundary", ErrStatement)
	}
	reader := multipart.NewReader(bytes.NewReader(body), parameters["boundary"])
	for i := 0; ; i++ {
		part, err := reader.NextRawPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || i > mostParts {
			return nil, nil, fmt.Errorf("%w: the body is not made of parts as its media type says, or of more than %d",
				ErrStatement, mostParts)
		}
		content, err := io.ReadAll(part)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: a part is not whole", ErrStatement)
		}
		if i == 0 {
			kind, _, err := mime.ParseMediaType(part.Header.Get("Content-Type"))
			if err != nil || kind != "application/json" {
				return nil, nil, fmt.Errorf("%w: the first part must be application/json", ErrStatement)
			}
			statements = content
			continue
		}
		a := Attachment{
			SHA2:        strings.ToLower(part.Header.Get(HashHeader)),
			ContentType: part.Header.Get("Content-Type"), Body: content,
		}
		sum := sha256.Sum256(content)
		switch {
		case a.SHA2 == "":
			return nil, nil, fmt.Errorf("%w: part %d has no %s", ErrStatement, i, HashHeader)
		case !strings.EqualFold(part.Header.Get("Content-Transfer-Encoding"), "binary"):
			return nil, nil, fmt.Errorf("%w: part %d must have Content-Transfer-Encoding: binary", ErrStatement, i)
		case a.SHA2 != hex.EncodeToString(sum[:]):
			return nil, nil, fmt.Errorf("%w: part %d is not what its hash says", ErrStatement, i)
		}
		parts = append(parts, a)
	}
	if statements == nil {
		return nil, nil, fmt.Errorf("%w: the body has no part with statements", ErrStatement)
	}
	return statements, parts, nil
}

// checkAttachments holds the content that came against what the statement says: all that is not to be found
// at an address must have come. It gives the hashes that the statement names.
func (s Statement) checkAttachments(came map[string]bool) (named []string, err error) {
	all, err := s.attachments()
	for n, a := range all {
		hash := strings.ToLower(a.SHA2)
		if named = append(named, hash); err == nil && a.FileURL == "" && !came[hash] {
			err = fmt.Errorf("attachments[%d] has no fileUrl, and its content did not come", n)
		}
	}
	if err != nil {
		err = fmt.Errorf("%w: %w", ErrStatement, err)
	}
	return named, err
}

// Hashes are the SHA-256 of the attachments that a stored statement names, in lower case.
func Hashes(body []byte) (all []string) {
	var s struct {
		Attachments []struct {
			SHA2 string `json:"sha2"`
		} `json:"attachments"`
		Object struct {
			Attachments []struct {
				SHA2 string `json:"sha2"`
			} `json:"attachments"`
		} `json:"object"`
	}
	if strict.Unmarshal(body, &s) != nil {
		return nil
	}
	for _, a := range append(s.Attachments, s.Object.Attachments...) {
		all = append(all, strings.ToLower(a.SHA2))
	}
	return all
}

// WriteMultipart writes statements and the content of their attachments (Communication 1.5.2), and gives the
// media type.
func WriteMultipart(out io.Writer, statements []byte, parts []Attachment) (contentType string, err error) {
	w := multipart.NewWriter(out)
	write := func(header textproto.MIMEHeader, body []byte) {
		part, wrong := w.CreatePart(header)
		if wrong == nil {
			_, wrong = part.Write(body)
		}
		err = errors.Join(err, wrong)
	}
	write(textproto.MIMEHeader{"Content-Type": {"application/json"}}, statements)
	for _, p := range parts {
		write(textproto.MIMEHeader{
			"Content-Type": {p.ContentType}, "Content-Transfer-Encoding": {"binary"}, HashHeader: {p.SHA2},
		}, p.Body)
	}
	return "multipart/mixed; boundary=" + w.Boundary(), errors.Join(err, w.Close())
}
