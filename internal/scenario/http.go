package scenario

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// until asks again and again until something has happened.
func (s *Story) until(ctx context.Context, what string, happened func() (bool, error)) error {
	deadline := time.Now().Add(Patience)
	for {
		ok, err := happened()
		if err != nil || ok {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s did not come within %s", what, Patience)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (s *Story) call(ctx context.Context, method, address, contentType, accept string, body io.Reader) (string,
	error,
) {
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return "", err
	}
	req.Header.Set("Accept", accept)
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	resp, err := s.http.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode >= 300 {
		err = fmt.Errorf("%s %s: %s: %s", method, address, resp.Status, bytes.TrimSpace(text))
	}
	return string(text), err
}

// form posts a form to a stand-in's page, as a person would in a browser.
func (s *Story) form(ctx context.Context, address string, values url.Values) error {
	_, err := s.call(ctx, http.MethodPost, address, "application/x-www-form-urlencoded", "application/json",
		strings.NewReader(values.Encode()))
	return err
}

func (s *Story) post(ctx context.Context, address string, body any) error {
	text, err := json.Marshal(body)
	if err == nil {
		_, err = s.call(ctx, http.MethodPost, address, "application/json", "application/json", bytes.NewReader(text))
	}
	return err
}

func (s *Story) text(ctx context.Context, address, accept string) (string, error) {
	return s.call(ctx, http.MethodGet, address, "", accept, nil)
}

func (s *Story) get(ctx context.Context, address string, into any) error {
	text, err := s.text(ctx, address, "application/json")
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(text), into)
}
