package mails_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/adapter/mails"
	"kanban/internal/standin"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/call"
)

func TestMailArrivesOrSaysWhy(t *testing.T) {
	outside, err := standin.Start(0)
	require.NoError(t, err)
	defer outside.Stop()
	connection := func(change map[string]string) adapter.Interface {
		c := adapter.Interface{Settings: map[string]string{
			"server": outside.Addresses.SMTP,
			"from":   "kanban@fernmoor.example", "security": "none",
		}}
		for k, v := range change {
			c.Settings[k] = v
		}
		return c
	}
	send := func(c adapter.Interface, to string) error {
		_, err := mails.New(c, 5*time.Second).Send(t.Context(),
			mails.Mail{ID: "d1", To: to, Subject: "Grüße", Text: "Hallo.\n"})
		return err
	}
	require.NoError(t, send(connection(nil), "ana@fernmoor.example"))
	got := outside.Inbox.Mails()
	require.Len(t, got, 1)
	assert.Equal(t, "Grüße", got[0].Subject)
	assert.Equal(t, "ana@fernmoor.example", got[0].To)
	assert.Equal(t, "<d1@fernmoor.example>", got[0].MessageID)

	for want, c := range map[call.Kind]struct {
		fault  *fault.Fault
		change map[string]string
		to     string
	}{
		call.Throttled:   {&fault.Fault{Kind: fault.Status, Status: 451}, nil, "ana@fernmoor.example"},
		call.Refused:     {&fault.Fault{Kind: fault.Status, Status: 550}, nil, "ana@fernmoor.example"},
		call.Unreachable: {&fault.Fault{Kind: fault.Cut}, nil, "ana@fernmoor.example"},
	} {
		require.NoError(t, outside.Fault("inbox", *c.fault))
		err := send(connection(c.change), c.to)
		p, ok := call.As(err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, want, p.Kind, "%v", err)
		outside.ClearFaults()
	}
	p, ok := call.As(send(connection(nil), "no address"))
	require.True(t, ok)
	assert.Equal(t, call.Refused, p.Kind)
	p, ok = call.As(send(connection(map[string]string{"server": "127.0.0.1:1"}), "ana@fernmoor.example"))
	require.True(t, ok)
	assert.Equal(t, call.Unreachable, p.Kind)
	var field *adapter.FieldError
	require.ErrorAs(t, send(connection(map[string]string{"server": "no port"}), "ana@fernmoor.example"), &field)
	require.Error(t, send(connection(map[string]string{"security": "starttls"}), "ana@fernmoor.example"),
		"the server offers no TLS, so nothing is sent in the open")
}

// A server that takes no mail without sign-in or encryption does not work, whatever it says
// to a greeting; a test leaves no mail behind.
func TestProbeBeginsAMail_C2(t *testing.T) {
	outside, err := standin.Start(0)
	require.NoError(t, err)
	defer outside.Stop()
	c := adapter.Interface{Settings: map[string]string{
		"server": outside.Addresses.SMTP,
		"from":   "kanban@fernmoor.example", "security": "none",
	}}
	for status, want := range map[int]adapter.State{
		0: adapter.Works, 530: adapter.WrongCredential,
		550: adapter.NotAllowed, 451: adapter.Works,
	} {
		if status != 0 {
			require.NoError(t, outside.Fault("inbox", fault.Fault{Kind: fault.Status, Status: status}))
		}
		r := mails.New(c, 5*time.Second).Probe(t.Context())
		require.Len(t, r, 1)
		assert.Equal(t, want, r[0].State, "%d: %s", status, r[0].Detail)
		if status == 451 {
			assert.Contains(t, r[0].Detail, "come again later")
		}
		outside.ClearFaults()
	}
	assert.Empty(t, outside.Inbox.Mails())
}
