// Package standin runs the simulated outside systems of the demo: real servers
// on loopback that speak the standards and can be made to misbehave.
//
//	s, err := standin.Start(0)
//	defer s.Stop()
//	fmt.Println(s.Addresses.Register)
package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/emersion/go-smtp"

	"kanban/internal/standin/contacts"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/identity"
	"kanban/internal/standin/inbox"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/register"
	"kanban/internal/standin/school"
	"kanban/internal/standin/shop"
	"kanban/internal/standin/wallet"
	"kanban/internal/standin/workspace"
)

// Addresses of the running servers.
type Addresses struct {
	Control   string `json:"control"`
	Register  string `json:"register"`
	Platform  string `json:"platform"`
	Workspace string `json:"workspace"`
	Contacts  string `json:"contacts"`
	Inbox     string `json:"inbox"`
	Shop      string `json:"shop"`
	Wallet    string `json:"wallet"`
	SMTP      string `json:"smtp"` // host:port
	Identity  string `json:"identity"`
}

// Standins are the running servers.
type Standins struct {
	Addresses Addresses
	School    *school.School
	Register  *register.Register
	Workspace *workspace.Workspace
	Contacts  *contacts.List
	Inbox     *inbox.Inbox
	Platform  *platform.Platform
	Shop      *shop.Shop
	Wallet    *wallet.Wallet
	Identity  *identity.Server

	faults  map[string]*fault.Switch
	servers []*http.Server
	mail    *smtp.Server
}

// Start starts every server on 127.0.0.1: the control endpoint at firstPort,
// the others at the ports that follow, or all at free ports when it is 0.
func Start(firstPort int) (*Standins, error) {
	s := &Standins{School: school.Fernmoor(time.Now), faults: map[string]*fault.Switch{}}
	for _, name := range []string{"register", "platform", "workspace", "contacts", "inbox", "shop", "identity"} {
		s.faults[name] = fault.NewSwitch()
	}
	s.Register = register.New(s.School)
	s.Workspace = workspace.New(s.School)
	s.Contacts = contacts.New()
	s.Inbox = inbox.New(s.faults["inbox"])
	s.Platform = platform.New(s.School)
	s.Shop = shop.New()
	s.Wallet = wallet.New()
	s.Identity = identity.New(s.School)
	serve := []struct {
		address *string
		handler http.Handler
	}{
		{&s.Addresses.Control, s.control()},
		{&s.Addresses.Register, s.faults["register"].Wrap(s.Register)},
		{&s.Addresses.Platform, s.faults["platform"].Wrap(s.Platform)},
		{&s.Addresses.Workspace, s.faults["workspace"].Wrap(s.Workspace)},
		{&s.Addresses.Contacts, s.faults["contacts"].Wrap(s.Contacts)},
		{&s.Addresses.Inbox, s.Inbox},
		{&s.Addresses.Shop, s.faults["shop"].Wrap(s.Shop)},
	}
	port := firstPort
	for _, x := range serve {
		if err := s.serve(&port, x.address, x.handler); err != nil {
			s.Stop()
			return nil, err
		}
	}
	l, err := listen(&port)
	if err != nil {
		s.Stop()
		return nil, err
	}
	s.Addresses.SMTP = l.Addr().String()
	s.mail = s.Inbox.SMTP()
	go func() { _ = s.mail.Serve(l) }()
	for _, x := range []struct {
		address *string
		handler http.Handler
	}{{&s.Addresses.Wallet, s.Wallet}, {&s.Addresses.Identity, s.faults["identity"].Wrap(s.Identity)}} {
		if err := s.serve(&port, x.address, x.handler); err != nil {
			s.Stop()
			return nil, err
		}
	}
	return s, nil
}

// serve starts one server at the next port, and notes where it is.
func (s *Standins) serve(port *int, address *string, handler http.Handler) error {
	l, err := listen(port)
	if err != nil {
		return err
	}
	*address = "http://" + l.Addr().String()
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	s.servers = append(s.servers, server)
	go func() { _ = server.Serve(l) }()
	return nil
}

// listen takes the port, or any when it is 0, and goes on to the next.
func listen(port *int) (net.Listener, error) {
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(*port)))
	if err != nil {
		return nil, fmt.Errorf("starting a stand-in: %w; choose other ports with --ports-from", err)
	}
	if *port > 0 {
		*port++
	}
	return l, nil
}

// Stop ends every server at once.
func (s *Standins) Stop() {
	for _, server := range s.servers {
		_ = server.Close()
	}
	if s.mail != nil {
		_ = s.mail.Close()
	}
}

// Fault switches a fault of one service on.
func (s *Standins) Fault(service string, f fault.Fault) error {
	x, ok := s.faults[service]
	if !ok {
		return fmt.Errorf("no stand-in is called %q", service)
	}
	return x.Set(f)
}

// Settle waits until no stand-in is at work on a delayed request any more.
func (s *Standins) Settle() {
	for _, x := range s.faults {
		x.Settle()
	}
}

// ClearFaults switches every fault off.
func (s *Standins) ClearFaults() {
	for _, x := range s.faults {
		x.Clear()
	}
}

// control is the endpoint on which faults are switched:
//
//	PUT    /faults/{service}   {"kind":"status","status":429,"retryAfter":1,"count":3}
//	DELETE /faults/{service}
//	PUT    /lies/{way}         the sign-in of the institution lies: see package identity; "none" ends that
//	PUT    /keys               the sign-in of the institution takes another key
//	GET    /addresses
func (s *Standins) control() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /addresses", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(s.Addresses)
	})
	mux.HandleFunc("PUT /faults/{service}", func(w http.ResponseWriter, r *http.Request) {
		var f fault.Fault
		err := json.NewDecoder(r.Body).Decode(&f)
		if err = errors.Join(err, s.Fault(r.PathValue("service"), f)); err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("PUT /lies/{way}", func(w http.ResponseWriter, r *http.Request) {
		way := identity.Wrong(r.PathValue("way"))
		if way == "none" {
			way = identity.Right
		}
		s.Identity.Lie(way)
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("PUT /keys", func(w http.ResponseWriter, _ *http.Request) {
		s.Identity.Rotate()
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("DELETE /faults/{service}", func(w http.ResponseWriter, r *http.Request) {
		x, ok := s.faults[r.PathValue("service")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		x.Clear()
		w.WriteHeader(http.StatusNoContent)
	})
	return mux
}
