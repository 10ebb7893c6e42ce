package adapter

import (
	"crypto/sha256"
	"encoding/json"
	"net/http"
	"sync"

	"kanban/internal/wire/call"

	"github.com/hashicorp/go-cleanhttp"
)

// transports holds what is open to services, one transport an interface, so that whoever
// calls a service next uses what is open already.
var transports sync.Map // id of an interface → *kept

type kept struct {
	made      [sha256.Size]byte // of the settings and secrets that it was made for
	transport *http.Transport
}

// transport gives an interface's. When its settings or secrets change it gets another one,
// and what the earlier one has open and nobody uses is closed.
func transport(c Interface) *http.Transport {
	if c.ID == "" { // not kept yet: it is only being tried out
		return cleanhttp.DefaultTransport()
	}
	made, _ := json.Marshal([]any{c.Settings, c.Secret}) // maps are written in one order
	now := &kept{sha256.Sum256(made), cleanhttp.DefaultPooledTransport()}
	for {
		before, there := transports.LoadOrStore(c.ID, now)
		if !there {
			return now.transport
		}
		had := before.(*kept)
		if had.made == now.made {
			return had.transport
		}
		if transports.CompareAndSwap(c.ID, had, now) {
			had.transport.CloseIdleConnections()
			return now.transport
		}
	}
}

// WithTransport lets calls use what is open to an interface's service.
func WithTransport(c Interface, o call.Options) call.Options {
	o.Transport = transport(c)
	return o
}

// CloseIdle closes what is open to an interface's service and nobody uses.
func CloseIdle(interfaceID string) {
	if had, there := transports.LoadAndDelete(interfaceID); there {
		had.(*kept).transport.CloseIdleConnections()
	}
}

// CloseAllIdle does so for all of them, as a process does at its end.
func CloseAllIdle() {
	transports.Range(func(id, _ any) bool {
		CloseIdle(id.(string))
		return true
	})
}
