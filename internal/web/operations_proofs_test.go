package web_test

import (
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/api"
)

// walkProofs walks what is done with proofs.
func walkProofs(x *talk, h *story) {
	t := x.site.t
	section := h.propA
	there := get[api.TestLearners](x, "/sections/"+section+"/test-learners")
	assert.Empty(t, there.Under)
	x.do(404, "GET", "/sections/00000000-0000-0000-0000-000000000000/test-learners", nil)
	x.do(422, "POST", "/proofs", api.NewProof{Section: section})
	x.do(422, "POST", "/proofs", api.NewProof{Section: "none", Email: "trial@fernmoor.example"})
	p := made[api.Proof](x, "/proofs", api.NewProof{Section: section, Email: "trial@fernmoor.example"})
	assert.True(t, p.Made)
	x.do(409, "POST", "/proofs", api.NewProof{Section: section, Email: "second@fernmoor.example"})
	require.Equal(t, p.ID, get[api.TestLearners](x, "/sections/"+section+"/test-learners").Under)
	x.do(409, "POST", "/proofs/"+p.ID+"/continue", nil)
	_, err := x.site.Proofs.Work(t.Context(), p.ID, false)
	require.NoError(t, err)
	p = get[api.Proof](x, "/proofs/"+p.ID)
	assert.Equal(t, "done", p.State)
	assert.NotEmpty(t, p.Steps)
	x.do(204, "POST", "/proofs/"+p.ID+"/continue", nil)
	x.do(404, "POST", "/proofs/none/continue", nil)
	x.do(409, "POST", "/proofs/"+p.ID+"/revert", api.EndProof{Anyway: true})
	x.do(204, "POST", "/proofs/"+p.ID+"/revert", api.EndProof{})
	x.do(404, "GET", "/proofs/none", nil)
	assert.Len(t, get[api.Page[api.Proof]](x, "/proofs").Items, 1)
}
