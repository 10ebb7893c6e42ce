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

// browser is what the receiver of the mail uses.
func (s *Story) browser() (*http.Client, error) {
	jar, err := cookiejar.New(nil)
	return &http.Client{Jar: jar, Timeout: 10 * time.Second}, err
}

// visit is a page that is opened in a browser, or a form that is sent, and what the page says afterwards.
type visit struct {
	address string
	form    url.Values // nil to open the page
	says    string
}

func (v visit) in(ctx context.Context, browser *http.Client) (at *url.URL, err error) {
	method := http.MethodGet
	if v.form != nil {
		method = http.MethodPost
	}
	req, err := http.NewRequestWithContext(ctx, method, v.address, strings.NewReader(v.form.Encode()))
	if err != nil {
		return nil, err
	}
	if v.form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	resp, err := browser.Do(req)
	if err != nil {
		return nil, err
	}
	page, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err = errors.Join(err, resp.Body.Close()); err != nil {
		return nil, err
	}
	if !strings.Contains(string(page), v.says) {
		return nil, fmt.Errorf("the page at %s does not say %q", resp.Request.URL.Path, v.says)
	}
	return resp.Request.URL, nil
}

// Share opens the link in the mail as its receiver does, accepts the terms and shares the badge.
func (s *Story) Share(ctx context.Context) error {
	s.heading("%s opens the link in the mail, and shares the badge", testName)
	var err error
	if s.holder, err = s.browser(); err != nil {
		return err
	}
	root := s.Client.Address() + "/open/holder"
	for _, step := range []visit{
		{strings.TrimSpace(s.badgesPage), url.Values{"address": {testEmail}}, "Before you share anything"},
		{root + "/terms", url.Values{"version": {"1"}, "accept": {"yes"}, "name": {testName}}, "Accepted."},
		{root + "/share", url.Values{"award": {s.Award.ID}, "share": {"yes"}}, "Shared since"},
	} {
		if _, err := step.in(ctx, s.holder); err != nil {
			return err
		}
	}
	page, err := s.text(ctx, s.Award.Address, "text/html")
	if err == nil && !strings.Contains(page, testName) {
		err = fmt.Errorf("the public page %s does not say whose it is", s.Award.Address)
	}
	s.tell("the public page says whose it is, since %s wants it to", testName)
	return err
}

// TakeAlong lets a wallet take the badge along: it asks, its holder allows it on a page of the service.
func (s *Story) TakeAlong(ctx context.Context) error {
	s.heading("%s lets a wallet take the badge along", testName)
	asked, err := visit{
		s.At.Wallet + "/add", url.Values{"school": {s.Client.Address()}}, "asks for access",
	}.in(ctx, s.holder)
	if err != nil {
		return err
	}
	_, err = visit{asked.String(), url.Values{
		"answer": {"allow"}, "scope": strings.Fields(asked.Query().Get("scope")),
	}, s.Award.Address}.in(ctx, s.holder)
	s.tell("the wallet has it, by the Open Badges API; %s can shut it out at any time", testName)
	return err
}
