package web

import (
	"context"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

// hub passes the database's announcements, whichever replica made them, on to
// every open stream.
type hub struct {
	mu      sync.Mutex
	streams map[chan db.Live]bool
}

func newHub() *hub { return &hub{streams: map[chan db.Live]bool{}} }

func (h *hub) run(ctx context.Context, s *db.Database, log *slog.Logger) {
	for ctx.Err() == nil {
		err := s.Listen(ctx, h.pass)
		if ctx.Err() != nil {
			return
		}
		log.Warn("listening for changes broke off, starting again", "cause", err.Error())
		h.pass(db.Live{Topic: "all"}) // something may have been missed
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// pass never waits: a stream that does not keep up loses single messages and is
// told that anything may have changed.
func (h *hub) pass(l db.Live) {
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
			case c <- db.Live{Topic: "all"}:
			default:
			}
		}
	}
}

func (h *hub) join() (news chan db.Live, leave func()) {
	c := make(chan db.Live, 256)
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
	op := huma.Operation{
		OperationID: "live", Extensions: acting(operation{Act: permission.Own}), Method: http.MethodGet,
		Path:    "/api/v1/live",
		Summary: "What changes, as it changes (server-sent events)", Tags: []string{"installation"},
	}
	sse.Register(a, op, map[string]any{"message": api.Live{}, "hello": hello{}},
		func(ctx context.Context, _ *struct{}, send sse.Sender) {
			news, leave := s.live.join()
			defer leave()
			if send.Data(hello{time.Now()}) != nil {
				return
			}
			sign := auth.Sign(ctx)
			all := auth.Caller(ctx).Everywhere(permission.Look)
			tick := time.NewTicker(20 * time.Second)
			defer tick.Stop()
			for {
				var err error
				select {
				case <-ctx.Done():
					return
				case l := <-news:
					if l.Topic == access.TopicSignedOut {
						if l.ID == auth.Hash(sign) {
							return
						}
						continue
					}
					if l.Topic == access.TopicUser && l.ID == auth.Caller(ctx).ID {
						return // they may be something else now: whoever still is in comes again
					}
					if !all { // that something changed is said to whoever sees only a part, not what
						l.ID = ""
					}
					err = send.Data(api.Live(l))
				case <-tick.C: // news can be missed, and administrators removed
					if !s.auth.StillIn(ctx, sign) {
						return
					}
					err = send.Data(hello{time.Now()})
				}
				if err != nil {
					return
				}
			}
		})
}
