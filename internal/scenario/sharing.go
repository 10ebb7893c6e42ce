package scenario

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"
)

// Share opens the link in the mail as its receiver does, accepts the terms and shares the badge.
func (s *Story) Share(ctx context.Context) error {
	s.heading("%s opens the link in the mail, and shares the badge", testName)
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	browser := &http.Client{Jar: jar, Timeout: 10 * time.Second}
	root := s.Client.Address() + "/open/holder"
	for _, step := range []struct {
		address string
		form    url.Values
		says    string
	}{
		{strings.TrimSpace(s.badgesPage), url.Values{"address": {testEmail}}, "Before you share anything"},
		{root + "/terms", url.Values{"version": {"1"}, "accept": {"yes"}, "name": {testName}}, "Accepted."},
		{root + "/share", url.Values{"award": {s.Award.ID}, "share": {"yes"}}, "Shared since"},
	} {
		form := strings.NewReader(step.form.Encode())
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, step.address, form)
		if err != nil {
			return err
		}
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		resp, err := browser.Do(req)
		if err != nil {
			return err
		}
		page, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if err = errors.Join(err, resp.Body.Close()); err != nil {
			return err
		}
		if !strings.Contains(string(page), step.says) {
			return fmt.Errorf("the page of the badges does not say %q", step.says)
		}
	}
	page, err := s.text(ctx, s.Award.Address, "text/html")
	if err == nil && !strings.Contains(page, testName) {
		err = fmt.Errorf("the public page %s does not say whose it is", s.Award.Address)
	}
	s.tell("the public page says whose it is, since %s wants it to", testName)
	return err
}
