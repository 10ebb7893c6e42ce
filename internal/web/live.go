package web

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"kanban/internal/store"
	"kanban/internal/wire/api"
)

// hub passes the database's announcements, whichever replica made them, on to
// every open stream.
type hub struct {
	mu      sync.Mutex
	streams map[chan store.Live]bool
}

func newHub() *hub { return &hub{streams: map[chan store.Live]bool{}} }

func (h *hub) run(ctx context.Context, s *store.Store, log *slog.Logger) {
	for ctx.Err() == nil {
		err := s.Listen(ctx, h.pass)
		if ctx.Err() != nil {
			return
		}
		log.Warn("listening for changes broke off, starting again", "cause", err.Error())
		h.pass(store.Live{Topic: "all"}) // something may have been missed
		time.Sleep(time.Second)
	}
}

// pass never waits: a stream that does not keep up loses single messages and is
// told that anything may have changed.
func (h *hub) pass(l store.Live) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.streams {
		select {
		case c <- l:
		default:
			select {
			case <-c:
			default:
			}
			select {
			case c <- store.Live{Topic: "all"}:
			default:
			}
		}
	}
}

func (h *hub) join() (news chan store.Live, leave func()) {
	c := make(chan store.Live, 256)
	h.mu.Lock()
	h.streams[c] = true
	h.mu.Unlock()
	return c, func() {
		h.mu.Lock()
		delete(h.streams, c)
		h.mu.Unlock()
	}
}

// hello opens a stream and keeps it open through quiet times.
type hello struct {
	At time.Time `json:"at"`
}

func (s *Server) stream(a huma.API) {
	op := huma.Operation{OperationID: "live", Method: http.MethodGet, Path: "/api/v1/live", Summary: "What changes, as it changes (server-sent events)", Tags: []string{"installation"}}
	sse.Register(a, op, map[string]any{"message": api.Live{}, "hello": hello{}}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		news, leave := s.live.join()
		defer leave()
		if send.Data(hello{time.Now()}) != nil {
			return
		}
		tick := time.NewTicker(20 * time.Second)
		defer tick.Stop()
		for {
			var err error
			select {
			case <-ctx.Done():
				return
			case l := <-news:
				err = send.Data(api.Live(l))
			case <-tick.C:
				err = send.Data(hello{time.Now()})
			}
			if err != nil {
				return
			}
		}
	})
}
