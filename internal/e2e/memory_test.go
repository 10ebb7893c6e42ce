package e2e_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"fmt"
	"hash/crc32"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// mostMemory is what nobody can make the service use with what they send, in bytes.
const mostMemory = 300 << 20

var highWater = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// peak is the most memory that a process has used so far, in bytes.
func peak(t *testing.T, pid int) int64 {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	found := highWater.FindSubmatch(text)
	require.NotNil(t, found)
	n, err := strconv.ParseInt(string(found[1]), 10, 64)
	require.NoError(t, err)
	return n << 10
}

// much is a text that begins in one way and goes on for ever in another.
type much struct {
	head, block string
	times       int
}

func repeated(text string, times int) much {
	const atOnce = 100_000
	return much{"", strings.Repeat(text, atOnce), times / atOnce}
}

// bomb is a package of a register in which one file holds much.
func bomb(t *testing.T, file string, content much) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	manifest := "propertyName,value\nmanifest.version,1.0\noneroster.version,1.2\n"
	heads := map[string]string{
		"orgs": "sourcedId,name,type", "academicSessions": "sourcedId,title,type,startDate,endDate",
		"courses": "sourcedId,title", "classes": "sourcedId,title,courseSourcedId",
		"users": "sourcedId,enabledUser,givenName,familyName", "roles": "userSourcedId,roleType,role",
		"enrollments": "sourcedId,classSourcedId,userSourcedId,role",
	}
	for name := range heads {
		manifest += "file." + name + ",bulk\n"
	}
	pack(t, z, "manifest.csv", manifest, file == "manifest", content)
	for name, head := range heads {
		pack(t, z, name+".csv", head+"\n", file == name, content)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

// pack adds a file. What comes again and again is deflated once: a block that was begun anew refers
// to nothing before it (RFC 1951 section 2), so that it can stand there any number of times.
func pack(t *testing.T, z *zip.Writer, name, text string, filled bool, content much) {
	t.Helper()
	if !filled {
		content = much{}
	}
	head, block := []byte(text+content.head), []byte(content.block)
	sum := crc32.ChecksumIEEE(head)
	for range content.times {
		sum = crc32.Update(sum, crc32.IEEETable, block)
	}
	var packed bytes.Buffer
	deflate := func(text []byte, end func(*flate.Writer) error) []byte {
		var out bytes.Buffer
		w, err := flate.NewWriter(&out, flate.DefaultCompression)
		require.NoError(t, err)
		_, err = w.Write(text)
		require.NoError(t, err)
		require.NoError(t, end(w))
		return out.Bytes()
	}
	packed.Write(deflate(head, (*flate.Writer).Flush))
	again := deflate(block, (*flate.Writer).Flush)
	for range content.times {
		packed.Write(again)
	}
	packed.Write(deflate(nil, (*flate.Writer).Close))
	w, err := z.CreateRaw(&zip.FileHeader{
		Name: name, Method: zip.Deflate, CRC32: sum, CompressedSize64: uint64(packed.Len()),
		UncompressedSize64: uint64(len(head) + len(block)*content.times),
	})
	require.NoError(t, err)
	_, err = w.Write(packed.Bytes())
	require.NoError(t, err)
}

// Whatever comes from outside, the service's memory stays in proportion to it.
func TestNobodyCanFillTheMemory(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	pid := w.service.PID()
	register := w.connect("oneroster-csv", "Files", nil)
	for _, c := range []struct {
		what string
		do   func(t *testing.T)
	}{
		{"unknown methods of half a megabyte", func(t *testing.T) {
			for i := range 20 {
				conn, err := net.Dial("tcp", strings.TrimPrefix(w.service.Address, "http://"))
				require.NoError(t, err)
				fmt.Fprintf(conn, "%s%d / HTTP/1.1\r\nHost: x\r\n\r\n", strings.Repeat("M", 500_000), i)
				_, _ = io.Copy(io.Discard, conn)
				conn.Close()
			}
		}},
		{"sign-ins side by side", func(t *testing.T) {
			var all sync.WaitGroup
			for i := range 56 {
				all.Go(func() {
					resp, err := http.Post(w.service.Address+"/api/v1/session", "application/json",
						strings.NewReader(fmt.Sprintf(`{"email": "a%d@fernmoor.example", "password": "wrong-wrong-wrong"}`, i)))
					if assert.NoError(t, err) {
						resp.Body.Close()
					}
				})
			}
			all.Wait()
		}},
		{"set-up links that are none", func(t *testing.T) {
			var all sync.WaitGroup
			for range 20 {
				all.Go(func() {
					resp, err := http.Post(w.service.Address+"/api/v1/setup", "application/json",
						strings.NewReader(`{"secret": "x", "name": "n", "email": "a@b.example", "password": "wrong-wrong-wrong"}`))
					if assert.NoError(t, err) {
						resp.Body.Close()
					}
				})
			}
			all.Wait()
		}},
		{"a value without end", func(t *testing.T) {
			w.refusesPackage(t, register,
				bomb(t, "users", repeated("a", 400_000_000)))
		}},
		{"a quote that is never closed", func(t *testing.T) {
			quoted := repeated("a,b,c\n", 60_000_000)
			quoted.head = `u1,true,"`
			w.refusesPackage(t, register, bomb(t, "users", quoted))
		}},
		{"rows of nothing", func(t *testing.T) {
			w.refusesPackage(t, register,
				bomb(t, "roles", repeated("a,b,c\n", 60_000_000)))
		}},
		{"rows that are none", func(t *testing.T) {
			w.refusesPackage(t, register,
				bomb(t, "roles", repeated("a\n", 60_000_000)))
		}},
		{"a manifest without end", func(t *testing.T) {
			w.refusesPackage(t, register, bomb(t, "manifest", repeated("file.x,absent\n", 30_000_000)))
		}},
		{"a million people in a small package", func(t *testing.T) {
			thousand := ""
			for i := range 1000 {
				thousand += fmt.Sprintf("%d%s,primary,student\n", i, strings.Repeat("x", 200))
			}
			w.uploads(t, register, bomb(t, "roles", much{"", thousand, 1000}))
		}},
		{"texts that define each other", func(t *testing.T) {
			text := `{{define "a"}}x{{end}}`
			for i := range 25 {
				text += fmt.Sprintf(`{{define "%c"}}{{template "%c"}}{{template "%c"}}{{end}}`, 'b'+i, 'a'+i, 'a'+i)
			}
			for _, text := range []string{text + `{{template "z"}}`, `{{printf "%999999999d" 1}}`} {
				verdict, err := client.Post[api.TextVerdict](t.Context(), w.Client, "/texts",
					api.TextCheck{Kind: "template", Text: text, Trigger: string(rule.SectionJoined)})
				require.NoError(t, err)
				assert.False(t, verdict.Fine)
			}
		}},
		{"statements of eight megabytes", func(t *testing.T) {
			made := w.Interfaces[scenario.PlatformName].Made
			for range 5 {
				req, err := http.NewRequest(http.MethodPost, w.service.Address+"/xapi/statements",
					strings.NewReader(`[{"x": [`+strings.Repeat("[", 7_000_000)))
				require.NoError(t, err)
				req.SetBasicAuth(made["key"], made["secret"])
				req.Header.Set("X-Experience-API-Version", "1.0.3")
				resp, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				resp.Body.Close()
				assert.GreaterOrEqual(t, resp.StatusCode, 400)
			}
		}},
	} {
		t.Run(c.what, func(t *testing.T) {
			// Begins to measure anew (proc(5), clear_refs).
			require.NoError(t, os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0))
			c.do(t)
			now := peak(t, pid)
			t.Logf("peak %d MB", now>>20)
			assert.Less(t, now, int64(mostMemory))
		})
	}
	resp, err := http.Get(w.service.Address + "/livez")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
}

// refusesPackage uploads a package, which ends as failed, with a cause.
func (w *world) refusesPackage(t *testing.T, register api.Interface, content []byte) {
	t.Helper()
	if ended := w.uploads(t, register, content); ended.ID != "" {
		assert.Equal(t, "failed", ended.State, ended.Error)
		assert.NotEmpty(t, ended.Error)
	}
}

// uploads gives the ended run of a package, none when it was refused at once.
func (w *world) uploads(t *testing.T, register api.Interface, content []byte) api.Run {
	t.Helper()
	t.Logf("a package of %d kB", len(content)>>10)
	r, err := w.Client.Upload(t.Context(), register.ID, false, bytes.NewReader(content))
	if err != nil {
		return api.Run{}
	}
	ended, err := w.Client.Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	return ended
}
