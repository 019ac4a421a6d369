package demo

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"math"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"idleember/core/site"
	"idleember/link/modbus"
)

// peers are the devices that do not speak MQTT: a fan drive, a scale and a web page with the yard's camera, each on a
// port of its own.
type peers struct {
	world   *world
	modbus  *modbus.Server
	scale   net.Listener
	weather *http.Server
	quit    chan struct{}
	done    sync.WaitGroup
	// Where they listen.
	fanAddr, scaleAddr, weatherURL, cameraURL string
	at                                        []string
}

// newPeers opens the peers at the addresses where they were before, or wherever there is room.
func newPeers(w *world, before []string) (*peers, error) {
	p := &peers{world: w, quit: make(chan struct{})}
	var all [3]net.Listener
	for i := range all {
		var err error
		if i < len(before) {
			all[i], err = net.Listen("tcp", before[i])
		}
		if all[i] == nil {
			all[i], err = net.Listen("tcp", "127.0.0.1:0")
		}
		if err != nil {
			return nil, err
		}
		p.at = append(p.at, all[i].Addr().String())
	}
	p.fanAddr, p.scaleAddr = all[0].Addr().String(), all[1].Addr().String()
	p.weatherURL = "http://" + all[2].Addr().String() + "/weather.json"
	p.modbus = modbus.Serve(all[0], &drive{w}, nil)
	p.scale = all[1]
	web := http.NewServeMux()
	web.HandleFunc("/", p.page)
	web.HandleFunc("/yard.jpg", p.look)
	p.cameraURL = "http://" + all[2].Addr().String() + "/yard.jpg"
	p.weather = &http.Server{Handler: web, ReadHeaderTimeout: 5 * time.Second}
	p.done.Add(2)
	go func() {
		defer p.done.Done()
		_ = p.weather.Serve(all[2]) // ends with close
	}()
	go func() {
		defer p.done.Done()
		p.weigh()
	}()
	return p, nil
}

func (p *peers) close() {
	close(p.quit)
	p.modbus.Close()
	_ = p.scale.Close()
	_ = p.weather.Close()
	p.done.Wait()
}

// drive is the fan at the shelves as a Modbus device; see the device model modbus_fan.
type drive struct{ w *world }

// Read implements modbus.Bank.
func (d *drive) Read(_ byte, t site.Table, address, n int) ([]uint16, error) {
	d.w.mu.Lock()
	defer d.w.mu.Unlock()
	r := &d.w.rest
	share := r.speed / fanFull
	power := uint32(math.Round(10 * math.Max(0, fanWatts*share*share+r.noise(0.3)*share)))
	tables := map[site.Table][]uint16{
		site.Coil:     {bit(r.fan)},
		site.Discrete: {bit(r.motor > 70)},
		site.Input:    {uint16(r.speed), uint16(power >> 16), uint16(power), uint16(int16(math.Round(r.motor * 10)))},
	}
	if t == site.Holding && address == 10 && n == 1 {
		return []uint16{uint16(math.Max(0, 60-r.watchdog))}, nil
	}
	words := tables[t]
	if address+n > len(words) {
		return nil, modbus.IllegalAddress
	}
	return words[address : address+n], nil
}

// Write implements modbus.Bank.
func (d *drive) Write(_ byte, t site.Table, address int, words []uint16) error {
	d.w.mu.Lock()
	defer d.w.mu.Unlock()
	switch {
	case t == site.Coil && address == 0 && len(words) == 1:
		d.w.fan = words[0] != 0
	case t == site.Holding && address == 10 && len(words) == 1:
		d.w.watchdog = 0
	default:
		return modbus.IllegalAddress
	}
	return nil
}

func bit(on bool) uint16 {
	if on {
		return 1
	}
	return 0
}

// weigh is the glaze scale: lines over TCP; see the device model line_scale.
func (p *peers) weigh() {
	for {
		c, err := p.scale.Accept()
		if err != nil {
			return
		}
		p.done.Add(1)
		go func() {
			defer p.done.Done()
			p.talk(c)
		}()
	}
}

func (p *peers) talk(c net.Conn) {
	defer func() { _ = c.Close() }()
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		for sc := bufio.NewScanner(io.LimitReader(c, 1<<30)); sc.Scan(); {
			p.world.mu.Lock()
			switch strings.TrimSpace(sc.Text()) {
			case "LAMP ON":
				p.world.scaleLamp = true
			case "LAMP OFF":
				p.world.scaleLamp = false
			case "TARE":
				p.world.weight = 0
			}
			p.world.mu.Unlock()
		}
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		p.world.mu.Lock()
		state, lamp := "S", "OFF"
		if p.world.load > 0 {
			state = "D"
		}
		if p.world.scaleLamp {
			lamp = "ON"
		}
		line := fmt.Sprintf("%s  %.1f g\r\nLAMP %s\r\n", state, math.Max(0, p.world.weight+p.world.noise(0.05)), lamp)
		p.world.mu.Unlock()
		if _, err := io.WriteString(c, line); err != nil {
			return
		}
		select {
		case <-gone:
			return
		case <-p.quit:
			return
		case <-tick.C:
		}
	}
}

// page is the weather service: it changes every two minutes and honours ETag.
func (p *peers) page(w http.ResponseWriter, r *http.Request) {
	at := time.Now().Truncate(2 * time.Minute)
	body, err := json.Marshal(weatherAt(at))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	sum := fnv.New64a()
	_, _ = sum.Write(body)
	tag := fmt.Sprintf("\"%x\"", sum.Sum64())
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(body)
}

func weatherAt(at time.Time) map[string]any {
	wave := func(hours float64) float64 { return math.Sin(2 * math.Pi * float64(at.Unix()) / 3600 / hours) }
	rain := math.Max(0, wave(31)+0.6*wave(7)-0.9) * 3
	sky := "clear"
	switch {
	case rain > 0:
		sky = "rain"
	case wave(31) > 0.2:
		sky = "clouds"
	}
	return map[string]any{"station": "Rowan Lane", "now": map[string]any{"temperature": round(outside(at), 0.1),
		"rain": round(rain, 0.1), "wind": round(12+9*wave(13)+3*wave(1.7), 1), "sky": sky}}
}

// battery sends the shed's battery as raw counts over UDP; see the device model battery_monitor.
func (w *world) sendBattery(ctx context.Context, addr, key string) {
	if addr == "" {
		return
	}
	c, err := net.Dial("udp", addr)
	if err != nil {
		return
	}
	defer func() { _ = c.Close() }()
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		w.mu.Lock()
		text := fmt.Sprintf("k=%s adc=%d charging=%d", key, w.counts(), bit(w.charging))
		w.mu.Unlock()
		_, _ = io.WriteString(c, text) // nobody may be listening yet
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
