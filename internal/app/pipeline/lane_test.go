package pipeline

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/store/deliverystore"
)

// A lane that is stopped while it reads ends, although what it had asked for comes after that.
func TestALaneThatIsStoppedWhileItReadsEnds(t *testing.T) {
	for range 50 {
		ctx, stop := context.WithCancel(t.Context())
		stop()
		x := &dispatcher{lanes: map[string]*lane{}}
		l := &lane{
			x: x, wake: make(chan struct{}, 1), done: make(chan []*turn), read: make(chan batch),
			inHand: map[string]bool{}, reading: true, slots: 1,
		}
		ended := make(chan bool)
		go func() {
			l.work(ctx)
			close(ended)
		}()
		l.read <- batch{turns: []*turn{{delivery: deliverystore.Delivery{ID: "a"}}}}
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			require.Fail(t, "the lane waits for nothing")
		}
		require.Empty(t, l.inHand)
	}
}
