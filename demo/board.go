package demo

import (
	"context"
	"encoding/json"
	"log/slog"
	"strconv"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// every is how often the board reports.
const every = 10 * time.Second

// board is a simulated microcontroller in the drying room. It speaks MQTT like any other board and obeys the lease: it acts
// on a retained want only after the hub's first beat, and falls to off when the beats stop.
type board struct {
	id   string
	room *room
	log  *slog.Logger
	now  func() time.Time

	mu      sync.Mutex
	client  mqtt.Client
	options *mqtt.ClientOptions
	lease   time.Duration
	heard   time.Time // the last beat
	want    *bool     // a retained want that waits for the first beat
	plugged bool
}

func newBoard(id, key, addr string, r *room, log *slog.Logger) *board {
	b := &board{id: id, room: r, log: log, now: time.Now, plugged: true}
	b.options = mqtt.NewClientOptions().AddBroker("tcp://" + addr).SetClientID(id).SetUsername(id).SetPassword(key).
		SetKeepAlive(15 * time.Second).SetConnectRetry(true).SetConnectRetryInterval(time.Second).SetMaxReconnectInterval(5 * time.Second).
		SetOrderMatters(true).SetOnConnectHandler(b.connected)
	b.client = mqtt.NewClient(b.options)
	return b
}

// run powers the board until the context ends.
func (b *board) run(ctx context.Context) {
	b.client.Connect()
	second := time.NewTicker(time.Second)
	defer second.Stop()
	last := b.now()
	next := last
	for {
		select {
		case <-ctx.Done():
			b.client.Disconnect(200)
			return
		case <-second.C:
		}
		now := b.now()
		b.mu.Lock()
		b.room.step(now, now.Sub(last))
		last = now
		b.guard(now)
		due := !now.Before(next) && b.plugged
		b.mu.Unlock()
		if due {
			next = next.Add(every)
			if next.Before(now) {
				next = now.Add(every)
			}
			b.report()
		}
	}
}

// guard lets the heater fall to off when the hub was silent for longer than the lease. The caller holds the lock.
func (b *board) guard(now time.Time) {
	if b.room.heater && b.lease > 0 && now.Sub(b.heard) > b.lease {
		b.room.heater = false
		b.log.Info("the demo's board heard no beat and switched its heater off", "board", b.id)
		b.publish("is/heater", `{"v":"off","by":"lease"}`)
	}
}

func (b *board) connected(c mqtt.Client) {
	b.mu.Lock()
	b.heard, b.want = time.Time{}, nil
	b.mu.Unlock()
	c.Subscribe("ember/"+b.id+"/lease", 0, func(_ mqtt.Client, m mqtt.Message) { b.beat(m.Payload()) })
	c.Subscribe("ember/"+b.id+"/want/heater", 1, func(_ mqtt.Client, m mqtt.Message) { b.wanted(string(m.Payload()) == "on", m.Retained()) })
	b.mu.Lock()
	b.tell("")
	b.mu.Unlock()
	b.report()
}

func (b *board) beat(payload []byte) {
	seconds, err := strconv.ParseFloat(string(payload), 64)
	if err != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lease, b.heard = time.Duration(seconds*float64(time.Second)), b.now()
	if b.want != nil {
		b.set(*b.want, "")
		b.want = nil
	}
}

func (b *board) wanted(on, retained bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if on && retained && b.heard.IsZero() {
		b.want = &on
		return
	}
	b.want = nil
	b.set(on, "")
}

func (b *board) set(on bool, by string) {
	b.room.heater = on
	b.tell(by)
}

func (b *board) tell(by string) {
	state := "off"
	if b.room.heater {
		state = "on"
	}
	if by != "" {
		state = `{"v":"` + state + `","by":"` + by + `"}`
	}
	b.publish("is/heater", state)
}

// press is somebody pushing the button on the board.
func (b *board) press() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.set(!b.room.heater, "hand")
}

// plug pulls the board's plug or puts it back: its heater is off and its memory gone meanwhile.
func (b *board) plug() bool {
	b.mu.Lock()
	b.plugged = !b.plugged
	plugged := b.plugged
	b.room.heater, b.lease = false, 0
	b.mu.Unlock()
	if plugged {
		b.mu.Lock()
		b.client = mqtt.NewClient(b.options)
		b.mu.Unlock()
		b.client.Connect()
	} else {
		b.client.Disconnect(0)
	}
	return plugged
}

func (b *board) report() {
	b.mu.Lock()
	defer b.mu.Unlock()
	t, h, clay := b.room.sense()
	payload, err := json.Marshal(map[string]float64{"temperature": t, "humidity": h, "clay_moisture": clay})
	if err == nil {
		b.publish("r", string(payload))
	}
}

// publish sends without waiting; the library keeps what is not acknowledged.
func (b *board) publish(topic, payload string) {
	if b.plugged && b.client.IsConnectionOpen() {
		b.client.Publish("ember/"+b.id+"/"+topic, 1, false, payload)
	}
}
