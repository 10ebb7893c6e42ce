package scim

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"kanban/internal/wire/call"
)

// Memory keeps what a service says of itself, so that clients which are made one after the other for one
// service ask for it once in a while only.
type Memory struct {
	mu      sync.Mutex
	config  ServiceProviderConfig
	said    bool // the service says what it offers
	asked   time.Time
	schemas []Schema
}

// rememberedFor is how long that is believed.
const rememberedFor = 10 * time.Minute

// Remember lets the client use what others have found out.
func (c *Client) Remember(m *Memory) { c.memory = m }

// Offers is what the service offers; said is false for one that does not say, which is then taken to offer
// the core of the standard.
func (c *Client) Offers(ctx context.Context) (config ServiceProviderConfig, said bool) {
	c.memory.mu.Lock()
	defer c.memory.mu.Unlock()
	if m := c.memory; m.asked.IsZero() || time.Since(m.asked) > rememberedFor {
		config, err := c.config(ctx)
		if p, ok := call.As(err); err != nil && (!ok || p.Passing()) {
			return m.config, m.said // it is asked again next time
		}
		m.config, m.said, m.asked, m.schemas = config, err == nil, time.Now(), nil
	}
	return c.memory.config, c.memory.said
}

// writable leaves out of operations on users what the service's schemas do not let be changed.
func (c *Client) writable(ctx context.Context, operations []Operation) []Operation {
	c.memory.mu.Lock()
	schemas := c.memory.schemas
	c.memory.mu.Unlock()
	if schemas == nil {
		var err error
		if schemas, err = c.Schemas(ctx); err != nil {
			schemas = []Schema{} // it does not say
		}
		c.memory.mu.Lock()
		c.memory.schemas = schemas
		c.memory.mu.Unlock()
	}
	return slices.DeleteFunc(slices.Clone(operations), func(o Operation) bool {
		path, _, _ := strings.Cut(o.Path, "[")
		return !Writable(schemas, UserSchema, path)
	})
}
