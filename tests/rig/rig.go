// Package rig starts a hub on loopback for tests and speaks to it as its users do: through its client, and over MQTT
// with clients that were not written here. Every answer of the interface is checked against the contract.
package rig

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/require"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/serve"
)

// Password is everybody's password in tests.
const Password = "a long enough password"

// AllScopes are those of a token that may do all that its member may.
var AllScopes = []client.Scope{client.ScopeRead, client.ScopeSwitch, client.ScopeConfigure, client.ScopePush}

// Rig is a running hub with an owner.
type Rig struct {
	T       testing.TB
	Dir     string
	Service *serve.Service
	Owner   *client.Remote
	change  func(*serve.Options)
}

// New starts a hub in a fresh folder and makes mo its owner.
func New(t testing.TB) *Rig { return With(t, nil) }

// With is New of a hub that is started otherwise.
func With(t testing.TB, change func(*serve.Options)) *Rig {
	r := in(t, t.TempDir(), change)
	_, err := r.Owner.SetUpWithResponse(t.Context(), client.Setup{Code: r.Service.People.SetupCode(),
		Name: "Rowan Lane studio", Latitude: 48.2, Longitude: 16.4, Zone: "Europe/Vienna", Account: "mo", Password: Password})
	require.NoError(t, err)
	return r
}

// Bare starts a hub without an owner.
func Bare(t testing.TB) *Rig { return In(t, t.TempDir()) }

// In starts a hub in a folder.
func In(t testing.TB, dir string) *Rig { return in(t, dir, nil) }

func in(t testing.TB, dir string, change func(*serve.Options)) *Rig {
	r := &Rig{T: t, Dir: dir, change: change}
	r.start()
	t.Cleanup(func() { require.NoError(t, r.Service.Close()) })
	return r
}

func (r *Rig) start() {
	o := serve.Options{Data: r.Dir, HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0", MQTTS: "127.0.0.1:0", UDP: "127.0.0.1:0"}
	if r.change != nil {
		r.change(&o)
	}
	s, err := serve.Start(context.Background(), o)
	require.NoError(r.T, err)
	r.Service = s
	r.Owner = r.Client()
}

// Restart stops the hub and starts it again in the same folder; mo signs in anew.
func (r *Rig) Restart() {
	require.NoError(r.T, r.Service.Close())
	r.Reopen()
}

// Reopen starts a hub that was closed again.
func (r *Rig) Reopen() {
	r.start()
	r.SignIn(r.Owner, "mo")
}

// URL is the address of console and interface.
func (r *Rig) URL() string { return "http://" + r.Service.HTTP }

// Client returns a client that is not signed in.
func (r *Rig) Client() *client.Remote {
	c, err := client.New(r.URL(), "")
	require.NoError(r.T, err)
	return c
}

// SignIn signs an account in.
func (r *Rig) SignIn(c *client.Remote, account string) {
	_, err := c.SignInWithResponse(r.T.Context(), client.SignInJSONRequestBody{Account: account, Password: Password})
	require.NoError(r.T, err)
}

// Member adds a person and returns a client that is signed in as them.
func (r *Rig) Member(account string, role client.Role) *client.Remote {
	_, err := r.Owner.AddMemberWithResponse(r.T.Context(), client.NewMember{Account: account, Role: role,
		Password: Password})
	require.NoError(r.T, err)
	c := r.Client()
	r.SignIn(c, account)
	return c
}

// Fields are what is told of a part; what is left out is as it usually is.
type Fields = map[string]any

// Device adds a device and returns its key.
func (r *Rig) Device(id string) string {
	d, err := r.Owner.AddDevice(r.T.Context(), Fields{"id": id, "name": id, "place": "Studio"})
	require.NoError(r.T, err)
	return d.Key
}

// Linked adds a device with a link of its own and returns its key.
func (r *Rig) Linked(id string, link client.Link, change ...func(Fields)) string {
	b := Fields{"id": &id, "name": id, "place": "Studio", "link": &link}
	for _, f := range change {
		f(b)
	}
	d, err := r.Owner.AddDevice(r.T.Context(), b)
	require.NoError(r.T, err)
	return d.Key
}

// AddSignal adds a signal that is found at a source.
func (r *Rig) AddSignal(device, name string, kind client.Kind, src client.Source) {
	_, err := r.Owner.Signals().Make(r.T.Context(), Fields{"device": device, "raw": name, "kind": kind, "source": src})
	require.NoError(r.T, err)
}

// AddControl adds a switch with a source for what it is and a target for what is wanted.
func (r *Rig) AddControl(device, name string, src client.Source, target client.Target) {
	_, err := r.Owner.Controls().Make(r.T.Context(), Fields{"device": device, "name": name, "source": src,
		"target": target})
	require.NoError(r.T, err)
}

// Online reports whether a device is there.
func (r *Rig) Online(id string) bool { return r.Get(id).State.Online }

// Get returns a device.
func (r *Rig) Get(id string) shown.Device {
	d, err := r.Owner.Devices().Get(r.T.Context(), id)
	require.NoError(r.T, err)
	return d
}

// Traffic returns a device's messages as "in topic payload: result" or "out ...".
func (r *Rig) Traffic(id string) (out []string) {
	x, err := r.Owner.ListTrafficWithResponse(r.T.Context(), id, nil)
	require.NoError(r.T, err)
	for _, m := range *x.JSON200 {
		way := "in"
		if m.Out {
			way = "out"
		}
		out = append(out, fmt.Sprintf("%s %s %s: %s", way, m.Topic, m.Payload, m.Result))
	}
	return out
}

// History returns the times and values of a signal's last days.
func (r *Rig) History(id string) (out map[int64]any) {
	from := time.Now().Add(-30 * 24 * time.Hour)
	points := 10_000
	h, err := r.Owner.GetHistoryWithResponse(r.T.Context(), &client.GetHistoryParams{Series: []string{id}, From: &from,
		Points: &points})
	require.NoError(r.T, err)
	out = map[int64]any{}
	x := (*h.JSON200)[0]
	require.NotNil(r.T, x.V, "all readings fit")
	for i, t := range x.T {
		out[t] = (*x.V)[i]
	}
	return out
}

// Token makes a token for scripts for whoever a client is signed in as.
func (r *Rig) Token(c *client.Remote) string {
	x, err := c.AddTokenWithResponse(r.T.Context(), client.AddTokenJSONRequestBody{Name: "a script", Scopes: AllScopes})
	require.NoError(r.T, err)
	return x.JSON201.Token
}

// Run runs a program and returns what it printed on both outputs.
func (r *Rig) Run(name string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(r.T.Context(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	return string(out), err
}

// Start starts a program that is ended with the test, and returns what it prints.
func (r *Rig) Start(name string, args ...string) *Sub {
	s := &Sub{cmd: exec.Command(name, args...)}
	s.cmd.Stdout, s.cmd.Stderr = s, s
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // so that what it started itself ends with it
	require.NoError(r.T, s.cmd.Start())
	r.T.Cleanup(s.Stop)
	return s
}

// FreePort returns an address on loopback that nobody listens on.
func FreePort(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

// Now returns the snapshot that the owner sees.
func (r *Rig) Now() client.Snapshot {
	s, err := r.Owner.GetNowWithResponse(r.T.Context())
	require.NoError(r.T, err)
	return *s.JSON200
}

// Signal returns a signal, or nil where there is none.
func (r *Rig) Signal(id string) *shown.Signal {
	for _, s := range r.Now().Signals {
		if s.Config.ID == id {
			return &s
		}
	}
	return nil
}

// Value returns a signal's value as it is in JSON, or nil.
func (r *Rig) Value(id string) any {
	if s := r.Signal(id); s != nil {
		return Plain(s.State.Value)
	}
	return nil
}

// Plain is a value as it is in JSON: a number, true or false, or a text.
func Plain(v *reading.Value) any {
	switch {
	case v == nil:
		return nil
	case v.Kind == site.Number:
		return v.Num
	case v.Kind == site.OnOff:
		return v.On()
	}
	return v.Text
}

// Control returns a control; it must be there.
func (r *Rig) Control(id string) shown.Control {
	c, err := r.Owner.Controls().Get(r.T.Context(), id)
	require.NoError(r.T, err)
	return c
}

// On reports whether what a control is or should be is on.
func On(v *reading.Value) bool { return v != nil && *v == reading.OnOff(true) }

// Switch switches a control without waiting for its board.
func (r *Rig) Switch(id string, on bool) shown.Control {
	c, err := r.Owner.SwitchControlWithResponse(r.T.Context(), id, nil, client.SwitchControlJSONRequestBody{To: on})
	require.NoError(r.T, err)
	return *c.JSON200
}

// Refusals returns what a device was refused, newest first.
func (r *Rig) Refusals(id string) []client.Refusal {
	x, err := r.Owner.ListRefusalsWithResponse(r.T.Context(), id)
	require.NoError(r.T, err)
	return *x.JSON200
}

// Journal returns the newest entries about an object as "actor action before>after".
func (r *Rig) Journal(object string) (out []string) {
	j, err := r.Owner.ListJournalWithResponse(r.T.Context(), &client.ListJournalParams{Object: &object})
	require.NoError(r.T, err)
	for _, e := range j.JSON200.Entries {
		out = append(out, fmt.Sprintf("%s %s %s>%s", e.Actor, e.Action, e.Before, e.After))
	}
	return out
}

// Mosquitto runs mosquitto_pub or mosquitto_sub as a device and returns what it printed on both outputs.
func (r *Rig) Mosquitto(command, device, key string, args ...string) (string, error) {
	host, port, _ := strings.Cut(r.Service.MQTT, ":")
	all := append([]string{"-h", host, "-p", port, "-u", device, "-P", key}, args...)
	ctx, cancel := context.WithTimeout(r.T.Context(), 20*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, command, all...).CombinedOutput()
	return string(out), err
}

// Pub publishes with mosquitto_pub, QoS 1, and returns what it said.
func (r *Rig) Pub(device, key, topic, payload string, args ...string) string {
	out, _ := r.Mosquitto("mosquitto_pub", device, key, append([]string{"-q", "1", "-t", topic, "-m", payload},
		args...)...)
	return out
}

// Sub is a running mosquitto_sub.
type Sub struct {
	mu  sync.Mutex
	out bytes.Buffer
	cmd *exec.Cmd
}

// Sub starts mosquitto_sub on a topic filter of a device.
func (r *Rig) Sub(device, key, filter string, args ...string) *Sub {
	host, port, _ := strings.Cut(r.Service.MQTT, ":")
	s := &Sub{}
	s.cmd = exec.Command("mosquitto_sub", append([]string{"-h", host, "-p", port, "-u", device, "-P", key, "-v", "-t",
		filter}, args...)...)
	s.cmd.Stdout, s.cmd.Stderr = s, s
	require.NoError(r.T, s.cmd.Start())
	r.T.Cleanup(s.Stop)
	return s
}

// Write implements io.Writer.
func (s *Sub) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.Write(p)
}

// String is everything that came so far.
func (s *Sub) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.String()
}

// Stop ends it.
func (s *Sub) Stop() {
	if s.cmd.ProcessState != nil {
		return
	}
	pid := s.cmd.Process.Pid
	if s.cmd.SysProcAttr != nil {
		pid = -pid
	}
	_ = syscall.Kill(pid, syscall.SIGKILL)
	_ = s.cmd.Wait()
}

// Paho connects a device with a library's client.
func (r *Rig) Paho(device, key, clientID string, change ...func(*paho.ClientOptions)) paho.Client {
	c := r.Connect(device, key, clientID, change...)
	r.T.Cleanup(func() { c.Disconnect(0) })
	return c
}

// Connect is Paho for those who disconnect by themselves.
func (r *Rig) Connect(device, key, clientID string, change ...func(*paho.ClientOptions)) paho.Client {
	o := paho.NewClientOptions().AddBroker("tcp://" +
		r.Service.MQTT).SetClientID(clientID).SetUsername(device).SetPassword(key).
		SetAutoReconnect(false).SetConnectTimeout(10 * time.Second)
	for _, f := range change {
		f(o)
	}
	c := paho.NewClient(o)
	tok := c.Connect()
	require.True(r.T, tok.WaitTimeout(15*time.Second))
	require.NoError(r.T, tok.Error())
	return c
}

// Soon waits until something is so.
func (r *Rig) Soon(what string, f func() bool) {
	Soon(r.T, what, f)
}

// Soon waits until something is so, at most 15 s.
func Soon(t testing.TB, what string, f func() bool) {
	t.Helper()
	require.Eventually(t, f, 40*time.Second, 20*time.Millisecond, what) // a busy machine with a slow disk takes its time
}

// Checked is an http.RoundTripper that fails the test where an answer is not as the contract says.
type Checked struct {
	T      testing.TB
	Router routers.Router
}

// Contract returns a round tripper that checks answers, and the contract itself.
func Contract(t testing.TB) (*Checked, *openapi3.T) {
	file, err := filepath.Abs("../api/openapi.yaml")
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromFile(file)
	require.NoError(t, err)
	router, err := legacy.NewRouter(doc)
	require.NoError(t, err)
	return &Checked{t, router}, doc
}

// RoundTrip implements http.RoundTripper.
func (c *Checked) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil, err
	}
	_ = resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(body))
	asked := r.Clone(r.Context())
	asked.URL = &url.URL{Path: r.URL.Path, RawQuery: r.URL.RawQuery} // as the contract names its server
	route, params, err := c.Router.FindRoute(asked)
	if err != nil { // of an operation that there is not
		if resp.StatusCode < http.StatusBadRequest {
			c.T.Errorf("%s %s answered %d, and the contract does not know it: %v", r.Method, r.URL.Path, resp.StatusCode, err)
		}
		return resp, nil
	}
	in := &openapi3filter.ResponseValidationInput{RequestValidationInput: &openapi3filter.RequestValidationInput{
		Request: asked, PathParams: params, Route: route},
		Status: resp.StatusCode, Header: resp.Header}
	in.SetBodyBytes(body)
	if err := openapi3filter.ValidateResponse(r.Context(), in); err != nil {
		c.T.Errorf("%s %s answered %d against the contract: %v", r.Method, r.URL.Path, resp.StatusCode, err)
	}
	return resp, nil
}

// JSON sends a raw request and returns status and decoded answer, a list under the name list.
func JSON(t testing.TB, c *http.Client, method, url, body string, header ...string) (int, map[string]any) {
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := c.Do(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	out := map[string]any{}
	if json.Unmarshal(raw, &out) != nil {
		var list []any
		if json.Unmarshal(raw, &list) == nil {
			out["list"] = list
		}
	}
	return resp.StatusCode, out
}

// From is a client at an address of this computer's loopback network, as somebody at a computer of their own.
func From(address string) *http.Client {
	return &http.Client{Transport: &http.Transport{DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(
		address)}}).DialContext}}
}

// Snapshot is everything that somebody may see.
func (r *Rig) Snapshot(c *client.Remote) client.Snapshot {
	got, err := c.GetNowWithResponse(r.T.Context())
	require.NoError(r.T, err)
	return *got.JSON200
}
