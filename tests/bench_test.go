package tests

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/hub"
	"idleember/serve"
	"idleember/tests/rig"
)

// bencher is a hub with boards whose limits stand out of the way.
type bencher struct {
	b    *testing.B
	s    *serve.Service
	keys map[string]string
}

func newBencher(b *testing.B, noSync bool, boards int) *bencher {
	s, err := serve.Start(context.Background(), serve.Options{Data: b.TempDir(), HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0",
		NoSync: noSync})
	require.NoError(b, err)
	b.Cleanup(func() { _ = s.Close() })
	x := &bencher{b, s, map[string]string{}}
	for i := range boards {
		id := fmt.Sprintf("board%d", i)
		_, key, err := s.Hub.AddDevice(b.Context(), access.HubActor(), site.Device{ID: id, Name: id, Place: "Studio",
			NewSignals: true, Limits: site.Limits{PerSecond: site.MostPerSecond}})
		require.NoError(b, err)
		x.keys[id] = key
	}
	return x
}

// publisher is a client that costs little, so that the broker is what is measured. It keeps flight messages on the way.
type publisher struct {
	conn   net.Conn
	packet []byte // a PUBLISH with QoS 1
	at     int    // where its packet id stands
}

func dialPublisher(b *testing.B, addr, device, key, topic string) *publisher {
	c, err := net.Dial("tcp", addr)
	require.NoError(b, err)
	var buf bytes.Buffer
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connect}, ProtocolVersion: 4,
		Connect: packets.ConnectParams{
			ProtocolName: []byte("MQTT"), Clean: true, Keepalive: 300, ClientIdentifier: device + "_bench"}}
	if key != "" {
		pk.Connect.UsernameFlag, pk.Connect.Username, pk.Connect.PasswordFlag, pk.Connect.Password = true, []byte(device),
			true, []byte(key)
	}
	require.NoError(b, pk.ConnectEncode(&buf))
	_, err = c.Write(buf.Bytes())
	require.NoError(b, err)
	ack := make([]byte, 4)
	_, err = io.ReadFull(c, ack)
	require.NoError(b, err)
	require.Zero(b, ack[3], "refused")
	buf.Reset()
	pub := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, ProtocolVersion: 4,
		TopicName: topic, Payload: []byte("21.4"), PacketID: 1}
	require.NoError(b, pub.PublishEncode(&buf))
	return &publisher{c, buf.Bytes(), 2 + 2 + len(topic)}
}

// send publishes n messages with up to flight of them on the way.
func (p *publisher) send(n, flight int) {
	acks := make([]byte, 4*flight)
	sent, acked, id, half := 0, 0, uint16(0), 0
	var out []byte
	for acked < n {
		out = out[:0]
		for ; sent < n && sent-acked < flight; sent++ {
			if id++; id == 0 {
				id = 1
			}
			binary.BigEndian.PutUint16(p.packet[p.at:], id)
			out = append(out, p.packet...)
		}
		if len(out) > 0 {
			if _, err := p.conn.Write(out); err != nil {
				return
			}
		}
		got, err := p.conn.Read(acks)
		if err != nil {
			return
		}
		half += got
		acked += half / 4
		half %= 4
	}
}

// load lets all publishers send b.N messages together and reports their rate.
func load(b *testing.B, list []*publisher, flight int) {
	for _, p := range list {
		p.send(3, 1)
	}
	each := b.N/len(list) + 1
	b.ResetTimer()
	var all sync.WaitGroup
	for _, p := range list {
		all.Add(1)
		go func() {
			defer all.Done()
			p.send(each, flight)
		}()
	}
	all.Wait()
	b.ReportMetric(float64(each*len(list))/b.Elapsed().Seconds(), "acks/s")
	b.StopTimer()
	for _, p := range list {
		_ = p.conn.Close()
	}
}

func (x *bencher) publishers(n int) (out []*publisher) {
	for i := range n {
		id := fmt.Sprintf("board%d", i)
		out = append(out, dialPublisher(x.b, x.s.MQTT, id, x.keys[id], "ember/"+id+"/r/x"))
	}
	return out
}

// BenchmarkAcknowledged compares readings that are acknowledged after the disk has them with the same path without
// sync, and with Debian's broker that forwards the same messages to one subscriber and stores nothing: 200 boards, and
// one gateway, with 20 messages on the way each.
func BenchmarkAcknowledged(b *testing.B) {
	const flight = 20
	for _, boards := range []int{200, 1} {
		name := map[int]string{200: "200-boards", 1: "gateway"}[boards]
		for _, noSync := range []bool{false, true} {
			b.Run(name+"/"+map[bool]string{false: "durable", true: "without-sync"}[noSync], func(b *testing.B) {
				x := newBencher(b, noSync, boards)
				load(b, x.publishers(boards), flight)
			})
		}
		b.Run(name+"/plain-broker", func(b *testing.B) {
			addr := plainBroker(b)
			host, port, _ := strings.Cut(addr, ":")
			sub := exec.Command("mosquitto_sub", "-h", host, "-p", port, "-q", "1", "-t", "#")
			require.NoError(b, sub.Start())
			defer func() { _ = sub.Process.Kill(); _ = sub.Wait() }()
			time.Sleep(300 * time.Millisecond)
			var list []*publisher
			for i := range boards {
				id := fmt.Sprintf("board%d", i)
				list = append(list, dialPublisher(b, addr, id, "", "ember/"+id+"/r/x"))
			}
			load(b, list, flight)
		})
	}
}

func plainBroker(b *testing.B) string {
	addr := rig.FreePort(b)
	host, port, _ := strings.Cut(addr, ":")
	conf := filepath.Join(b.TempDir(), "broker.conf")
	require.NoError(b, os.WriteFile(conf, []byte(fmt.Sprintf("listener %s %s\nallow_anonymous true\nmax_queued_messages "+
		"0\nset_tcp_nodelay true\n", port, host)), 0o600))
	cmd := exec.Command("/usr/sbin/mosquitto", "-c", conf)
	require.NoError(b, cmd.Start())
	b.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	rig.Soon(b, "the plain broker", func() bool {
		c, err := net.Dial("tcp", addr)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	})
	return addr
}

// paced lets publishers send n messages in turn, one every so often, and returns how long the acknowledgements took,
// sorted. between is called after each was sent.
func paced(list []*publisher, n int, every time.Duration, between func(i int)) (took []time.Duration) {
	var mu sync.Mutex
	var all sync.WaitGroup
	tick := time.NewTicker(every)
	defer tick.Stop()
	for i := range n {
		<-tick.C
		all.Add(1)
		go func() {
			defer all.Done()
			begun := time.Now()
			list[i%len(list)].send(1, 1)
			mu.Lock()
			took = append(took, time.Since(begun))
			mu.Unlock()
		}()
		between(i)
	}
	all.Wait()
	slices.Sort(took)
	return took
}

// BenchmarkLatency sends 200 readings a second from 20 boards and tells how long the acknowledgement and the delivery
// of a want to a board took.
func BenchmarkLatency(b *testing.B) {
	const boards = 20
	x := newBencher(b, false, boards)
	list := x.publishers(boards)
	relay := site.NewControl("board0", "relay", "relay", "Relay")
	relay.Answers = false
	_, err := x.s.Hub.Keep(b.Context(), access.HubActor(), relay)
	require.NoError(b, err)
	heard := dialPublisher(b, x.s.MQTT, "board0", x.keys["board0"], "ember/board0/r/y")
	var buf bytes.Buffer
	sub := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, ProtocolVersion: 4,
		PacketID: 1, Filters: packets.Subscriptions{{Filter: "ember/board0/want/relay"}}}
	require.NoError(b, sub.SubscribeEncode(&buf))
	_, err = heard.conn.Write(buf.Bytes())
	require.NoError(b, err)
	arrived := make(chan time.Time, 100)
	go func() {
		in := make([]byte, 256)
		for {
			if _, err := heard.conn.Read(in); err != nil {
				return
			}
			arrived <- time.Now()
		}
	}()
	<-arrived // the SUBACK
	for _, p := range list {
		p.send(1, 1)
	}
	var wants []time.Duration
	b.ResetTimer()
	acks := paced(list, max(b.N, 400), 5*time.Millisecond, func(i int) {
		if i%10 == 0 {
			begun := time.Now()
			_, err := x.s.Hub.Switch(b.Context(), access.HubActor(), "board0.relay", reading.OnOff(i%20 == 0), time.Time{})
			require.NoError(b, err)
			wants = append(wants, (<-arrived).Sub(begun))
		}
	})
	b.StopTimer()
	for name, d := range map[string][]time.Duration{"ack": acks, "delivery": wants} {
		slices.Sort(d)
		b.ReportMetric(float64(d[len(d)/2].Microseconds())/1000, name+"-p50-ms")
		b.ReportMetric(float64(d[len(d)*99/100].Microseconds())/1000, name+"-p99-ms")
	}
}

// BenchmarkIdleBoards tells what a board costs that is connected and silent, both ends of its connection together.
func BenchmarkIdleBoards(b *testing.B) {
	const boards = 1000
	x := newBencher(b, true, boards)
	used := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapInuse + m.StackInuse
	}
	before := used()
	list := x.publishers(boards)
	time.Sleep(time.Second)
	b.ReportMetric(float64(used()-before)/boards/1024, "kB/board")
	for range b.N { // the figure is of the whole
	}
	for _, p := range list {
		_ = p.conn.Close()
	}
}

// BenchmarkPush lets 64 clients push batches of 200 readings with times over HTTP, as a backlog comes; each answer
// means that they are on the disk.
func BenchmarkPush(b *testing.B) {
	const clients, batch = 64, 200
	for _, kind := range []string{"csv", "json"} {
		b.Run(kind, func(b *testing.B) {
			x := newBencher(b, false, clients)
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients}}
			post := func(id string, from int64) error {
				var body bytes.Buffer
				if kind == "csv" {
					body.WriteString("t,temperature\n")
				} else {
					body.WriteByte('[')
				}
				for i := range int64(batch) {
					switch {
					case kind == "csv":
						fmt.Fprintf(&body, "%d,%d.5\n", from+i*1000, i%30)
					case i > 0:
						body.WriteByte(',')
						fallthrough
					default:
						fmt.Fprintf(&body, `{"t":%d,"temperature":%d.5}`, from+i*1000, i%30)
					}
				}
				if kind == "json" {
					body.WriteByte(']')
				}
				req, err := http.NewRequest(http.MethodPost, "http://"+x.s.HTTP+"/push/"+id, &body)
				if err != nil {
					return err
				}
				req.SetBasicAuth(id, x.keys[id])
				req.Header.Set("Content-Type", map[string]string{"csv": "text/csv", "json": "application/json"}[kind])
				resp, err := client.Do(req)
				if err != nil {
					return err
				}
				defer func() { _ = resp.Body.Close() }()
				_, _ = io.Copy(io.Discard, resp.Body)
				if resp.StatusCode != http.StatusOK {
					return fmt.Errorf("answered %d", resp.StatusCode)
				}
				return nil
			}
			start := time.Now().Add(-300 * 24 * time.Hour).UnixMilli()
			each := b.N/clients + 1
			b.ResetTimer()
			var all sync.WaitGroup
			failed := make(chan error, clients)
			for c := range clients {
				all.Add(1)
				go func() {
					defer all.Done()
					for i := range each {
						if err := post(fmt.Sprintf("board%d", c), start+int64(i)*batch*1000); err != nil {
							failed <- err
							return
						}
					}
				}()
			}
			all.Wait()
			b.ReportMetric(float64(each*clients*batch)/b.Elapsed().Seconds(), "readings/s")
			b.StopTimer()
			select {
			case err := <-failed:
				b.Fatal(err)
			default:
			}
		})
	}
}

// BenchmarkStalledSubscriber compares 20 boards while one more has subscribed with QoS 1 and does not read with the
// same boards alone.
func BenchmarkStalledSubscriber(b *testing.B) {
	const boards = 20
	for _, stalled := range []bool{false, true} {
		b.Run(map[bool]string{false: "none", true: "one"}[stalled], func(b *testing.B) {
			x := newBencher(b, true, boards+1)
			list := x.publishers(boards)
			if stalled {
				id := fmt.Sprintf("board%d", boards)
				deaf := dialPublisher(b, x.s.MQTT, id, x.keys[id], "ember/"+id+"/r/x")
				defer func() { _ = deaf.conn.Close() }()
				var buf bytes.Buffer
				sub := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, ProtocolVersion: 4,
					PacketID: 1, Filters: packets.Subscriptions{{Filter: "ember/" + id + "/#", Qos: 1}}}
				require.NoError(b, sub.SubscribeEncode(&buf))
				for range 2000 { // what it publishes comes back to it, and it never reads
					buf.Write(deaf.packet)
				}
				_, err := deaf.conn.Write(buf.Bytes())
				require.NoError(b, err)
			}
			load(b, list, 20)
		})
	}
}

// BenchmarkWritten counts what twelve boards with five signals each, a message every 10 s, make the hub write in a day:
// what this process writes in a minute or two, from the system's own count, and what sealing writes every hour.
func BenchmarkWritten(b *testing.B) {
	written := func() (n float64) {
		text, err := os.ReadFile("/proc/self/io")
		require.NoError(b, err)
		_, after, _ := strings.Cut(string(text), "\nwrite_bytes: ")
		_, err = fmt.Sscan(after, &n)
		require.NoError(b, err)
		return n
	}
	for _, qos := range []byte{0, 1} {
		b.Run(fmt.Sprintf("qos=%d", qos), func(b *testing.B) {
			s, err := serve.Start(context.Background(), serve.Options{Data: b.TempDir(), HTTP: "127.0.0.1:0",
				MQTT: "127.0.0.1:0", Gather: hub.Gather{Acknowledged: 600 * time.Millisecond, Others: 5 * time.Second}})
			require.NoError(b, err)
			defer func() { _ = s.Close() }()
			me := access.HubActor()
			ctx, cancel := context.WithCancel(b.Context())
			var wg sync.WaitGroup
			for i := range 12 {
				d, key, err := s.Hub.AddDevice(ctx, me, site.Device{Name: fmt.Sprint("Board ", i), Place: "Studio",
					NewSignals: true})
				require.NoError(b, err)
				c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" +
					s.MQTT).SetClientID(d.Config.ID).SetUsername(d.Config.ID).SetPassword(key))
				require.True(b, c.Connect().WaitTimeout(10*time.Second))
				wg.Add(1)
				go func() {
					defer wg.Done()
					defer c.Disconnect(100)
					time.Sleep(time.Duration(rand.IntN(10_000)) * time.Millisecond) // boards do not agree on when they send
					every := time.NewTicker(10 * time.Second)
					defer every.Stop()
					for n := 0; ; n++ {
						c.Publish("ember/"+d.Config.ID+"/r", qos, false,
							fmt.Sprintf(`{"temperature":%.1f,"humidity":%.1f,"pressure":%.2f,"count":%d,"on":%t}`,
								20+float64(n%30)/10, 50+float64(n%8)/2, 1013+float64(n%40)/100, n, n%20 == 0))
						select {
						case <-every.C:
						case <-ctx.Done():
							return
						}
					}
				}()
			}
			time.Sleep(45 * time.Second) // until all is known that the hub learns at first
			took := time.Minute
			before := written()
			time.Sleep(took)
			day := (written() - before) * float64(24*time.Hour) / float64(took)
			cancel()
			wg.Wait()
			before = written()
			require.NoError(b, s.Hub.Seal(b.Context()))
			day += 24 * (written() - before)
			b.ReportMetric(day/1e6, "MB/day")
			b.ReportMetric(0, "ns/op")
		})
	}
}
