package demo

import (
	"context"
	"encoding/json"
	"log/slog"
	"path"
	"strconv"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// every is how often the board reports.
const every = 10 * time.Second

// board is a simulated microcontroller. It speaks MQTT like any other board and obeys the lease: it acts on a retained
// want only after the hub's first beat, and its outputs fall to off when the beats stop.
type board struct {
	id      string
	outputs map[string]*bool    // in the model
	levels  map[string]*float64 // likewise, in per cent
	copies  map[string]*float64 // settings of which it has a copy, likewise
	revs    map[string]int64    // of the copies
	measure func() map[string]any
	log     *slog.Logger
	now     func() time.Time

	mu      *sync.Mutex // guards the model and what follows
	client  mqtt.Client
	options *mqtt.ClientOptions
	lease   time.Duration
	heard   time.Time       // the last beat
	wants   map[string]bool // retained wants that wait for the first beat
	plugged bool
}

func newBoard(id, key, addr string, mu *sync.Mutex, outputs map[string]*bool, measure func() map[string]any,
	log *slog.Logger) *board {
	b := &board{id: id, mu: mu, outputs: outputs, measure: measure, log: log, now: time.Now, plugged: true,
		wants: map[string]bool{}, revs: map[string]int64{}}
	b.options = mqtt.NewClientOptions().AddBroker("tcp://" + addr).SetClientID(id).SetUsername(id).SetPassword(key).
		SetKeepAlive(15 * time.Second).SetConnectRetry(true).SetConnectRetryInterval(time.Second).SetMaxReconnectInterval(
		5 * time.Second).
		SetOrderMatters(true).SetOnConnectHandler(b.connected)
	b.client = mqtt.NewClient(b.options)
	return b
}

// run powers the board until the context ends.
func (b *board) run(ctx context.Context) {
	b.client.Connect()
	second := time.NewTicker(time.Second)
	defer second.Stop()
	next := b.now()
	for {
		select {
		case <-ctx.Done():
			b.client.Disconnect(200)
			return
		case <-second.C:
		}
		now := b.now()
		b.mu.Lock()
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

// guard lets the outputs fall to off when the hub was silent for longer than the lease. The caller holds the lock.
func (b *board) guard(now time.Time) {
	if b.lease == 0 || now.Sub(b.heard) <= b.lease {
		return
	}
	for name, on := range b.outputs {
		if *on {
			*on = false
			b.log.Info("a board of the demo heard no beat and switched off", "board", b.id, "output", name)
			b.publish("is/"+name, `{"v":"off","by":"lease"}`)
		}
	}
}

func (b *board) connected(c mqtt.Client) {
	b.mu.Lock()
	b.heard = time.Time{}
	clear(b.wants)
	b.mu.Unlock()
	c.Subscribe("ember/"+b.id+"/lease", 0, func(_ mqtt.Client, m mqtt.Message) { b.beat(m.Payload()) })
	c.Subscribe("ember/"+b.id+"/want/+", 1, func(_ mqtt.Client, m mqtt.Message) {
		name, word := path.Base(m.Topic()), string(m.Payload())
		if b.levels[name] != nil {
			b.level(name, word)
			return
		}
		b.wanted(name, word == "on", m.Retained())
	})
	if len(b.copies) > 0 {
		c.Subscribe("ember/"+b.id+"/set/+", 1, func(_ mqtt.Client, m mqtt.Message) {
			b.copied(path.Base(m.Topic()), m.Payload())
		})
	}
	b.mu.Lock()
	for name := range b.outputs {
		b.tell(name, "")
	}
	for name, v := range b.levels {
		b.publish("is/"+name, strconv.FormatFloat(*v, 'f', -1, 64))
	}
	b.mu.Unlock()
	b.report()
}

// level takes a level that the hub wants.
func (b *board) level(name, word string) {
	v, err := strconv.ParseFloat(word, 64)
	if err != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	*b.levels[name] = v
	b.publish("is/"+name, word)
}

// copied takes the hub's value of a setting of which the board has a copy, and says that it has it.
func (b *board) copied(name string, payload []byte) {
	var in struct {
		V   float64 `json:"v"`
		Rev int64   `json:"rev"`
	}
	if json.Unmarshal(payload, &in) != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if to := b.copies[name]; to != nil {
		*to, b.revs[name] = in.V, in.Rev
		b.publish("has/"+name, string(payload))
	}
}

// turn changes a copy at the board, as somebody does at its knob.
func (b *board) turn(name string, v float64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	*b.copies[name] = v
	said, _ := json.Marshal(map[string]any{"v": v, "rev": b.revs[name], "age": 1}) // plain numbers
	b.publish("has/"+name, string(said))
}

func (b *board) beat(payload []byte) {
	seconds, err := strconv.ParseFloat(string(payload), 64)
	if err != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lease, b.heard = time.Duration(seconds*float64(time.Second)), b.now()
	for name, on := range b.wants {
		b.set(name, on, "")
	}
	clear(b.wants)
}

func (b *board) wanted(name string, on, retained bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if on && retained && b.heard.IsZero() {
		b.wants[name] = on
		return
	}
	delete(b.wants, name)
	b.set(name, on, "")
}

func (b *board) set(name string, on bool, by string) {
	if b.outputs[name] == nil {
		return
	}
	*b.outputs[name] = on
	b.tell(name, by)
}

func (b *board) tell(name, by string) {
	state := "off"
	if *b.outputs[name] {
		state = "on"
	}
	if by != "" {
		state = `{"v":"` + state + `","by":"` + by + `"}`
	}
	b.publish("is/"+name, state)
}

// press is somebody pushing the button of an output on the board.
func (b *board) press(name string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.set(name, !*b.outputs[name], "hand")
}

// plug pulls the board's plug or puts it back: its outputs are off and its memory gone meanwhile.
func (b *board) plug() bool {
	b.mu.Lock()
	b.plugged = !b.plugged
	plugged := b.plugged
	for _, on := range b.outputs {
		*on = false
	}
	b.lease = 0
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
	payload, err := json.Marshal(b.measure())
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
