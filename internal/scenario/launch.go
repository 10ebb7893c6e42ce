// Package scenario plays the demo school's story against a running service and
// running stand-ins, the way an administrator, a register clerk and a learner
// would. The demo command and the end-to-end tests share it.
//
//	story := scenario.New(service.Address, standins.Addresses, os.Stdout)
//	err := story.Play(ctx, service.SetupSecret)
package scenario

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Addresses of the stand-ins.
type Addresses struct {
	Control, Register, Platform, Workspace, Contacts, Inbox, SMTP, Shop, Wallet, Identity string
}

// process is a child that ends with this process, however this one ends.
type process struct {
	cmd   *exec.Cmd
	Ended chan struct{}
}

func launch(cmd *exec.Cmd) (*process, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	p := &process{cmd: cmd, Ended: make(chan struct{})}
	started := make(chan error)
	go func() { // Linux ties the death signal to the thread that started the child
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(p.Ended)
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting %s: %w", filepath.Base(cmd.Path), err)
	}
	return p, nil
}

// PID is the number of the process.
func (p *process) PID() int { return p.cmd.Process.Pid }

// Stop asks the process to end and waits for it.
func (p *process) Stop() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-p.Ended:
	case <-time.After(40 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.Ended
	}
}

// Kill ends the process without asking.
func (p *process) Kill() {
	_ = p.cmd.Process.Kill()
	<-p.Ended
}

// Standins are the running outside systems.
type Standins struct {
	*process
	Addresses Addresses
}

// StartStandins runs the standins program.
func StartStandins(ctx context.Context, binary string, portsFrom int) (*Standins, error) {
	cmd := exec.Command(binary, "--ports-from", strconv.Itoa(portsFrom))
	cmd.Stderr = os.Stderr
	out, w, err := os.Pipe() // not StdoutPipe: Wait runs beside the reading
	if err != nil {
		return nil, err
	}
	defer out.Close()
	cmd.Stdout = w
	p, err := launch(cmd)
	_ = w.Close()
	if err != nil {
		return nil, err
	}
	s := &Standins{process: p}
	line, err := bufio.NewReader(out).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &s.Addresses)
	}
	if err != nil {
		p.Stop()
		return nil, errors.New("the outside systems did not start; see the message above")
	}
	return s, nil
}

// ServiceOptions of a service started as a process of its own.
type ServiceOptions struct {
	Listen, Data, DatabaseURL, Roles string
	Env                              []string // added to the environment
}

// Service is a running service.
type Service struct {
	*process
	Address     string
	SetupSecret string // empty when there is an administrator already
	LogPath     string
}

// StartService runs kanban serve and waits until it is ready. Its log goes to
// serve.log in the data folder.
func StartService(ctx context.Context, binary string, o ServiceOptions) (*Service, error) {
	args := []string{"serve", "--listen", o.Listen, "--data", o.Data, "--log", "json", "--read-every", "0"}
	if o.DatabaseURL != "" {
		args = append(args, "--database-url", o.DatabaseURL)
	}
	if o.Roles != "" {
		args = append(args, "--roles", o.Roles)
	}
	s := &Service{LogPath: filepath.Join(o.Data, "serve.log")}
	log, err := os.OpenFile(s.LogPath, os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	from, err := log.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), o.Env...)
	cmd.Stderr = log
	if s.process, err = launch(cmd); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := s.ready(ctx, from); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// ready follows the log until the service says that it is ready.
func (s *Service) ready(ctx context.Context, from int64) error {
	for {
		text, err := os.ReadFile(s.LogPath)
		if err != nil {
			return err
		}
		for _, line := range strings.Split(string(text[from:]), "\n") {
			var entry struct {
				Msg       string
				Address   string
				SetupLink string `json:"setup_link"`
			}
			if json.Unmarshal([]byte(line), &entry) != nil {
				continue
			}
			if u, err := url.Parse(entry.SetupLink); err == nil && entry.SetupLink != "" {
				s.SetupSecret = u.Query().Get("secret")
			}
			if entry.Msg == "ready" {
				s.Address = entry.Address
				return nil
			}
		}
		select {
		case <-s.Ended:
			text, _ = os.ReadFile(s.LogPath)
			return fmt.Errorf("the service did not start:\n%s", strings.TrimSpace(string(text[from:])))
		case <-ctx.Done():
			return fmt.Errorf("the service was not ready in time; its log is in %s", s.LogPath)
		case <-time.After(50 * time.Millisecond):
		}
	}
}
