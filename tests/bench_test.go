package tests

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/require"

	"idleember/core/access"
	"idleember/core/site"
	"idleember/serve"
)

// BenchmarkAcknowledged compares readings that are acknowledged after the disk has them with the same path without sync,
// 40 boards with up to 20 messages on the way each.
func BenchmarkAcknowledged(b *testing.B) {
	for _, noSync := range []bool{false, true} {
		b.Run(map[bool]string{false: "durable", true: "without-sync"}[noSync], func(b *testing.B) {
			const boards, flight = 40, 20
			s, err := serve.Start(context.Background(), serve.Options{Data: b.TempDir(), HTTP: "127.0.0.1:0", MQTT: "127.0.0.1:0", NoSync: noSync})
			require.NoError(b, err)
			defer func() { _ = s.Close() }()
			var clients []paho.Client
			for i := range boards {
				id := fmt.Sprintf("board%d", i)
				_, key, err := s.Hub.AddDevice(b.Context(), access.HubActor(), site.Device{ID: id, Name: id, Place: "Studio", NewSignals: true})
				require.NoError(b, err)
				c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" + s.MQTT).SetClientID(id).SetUsername(id).SetPassword(key).SetMessageChannelDepth(flight))
				tok := c.Connect()
				require.True(b, tok.WaitTimeout(10*time.Second))
				require.NoError(b, tok.Error())
				c.Publish("ember/"+id+"/r/x", 1, false, "0").Wait()
				clients = append(clients, c)
			}
			b.ResetTimer()
			var wg sync.WaitGroup
			each := b.N/boards + 1
			for i, c := range clients {
				wg.Add(1)
				go func() {
					defer wg.Done()
					slots := make(chan struct{}, flight)
					for n := range each {
						slots <- struct{}{}
						tok := c.Publish(fmt.Sprintf("ember/board%d/r/x", i), 1, false, fmt.Sprint(n))
						go func() { tok.Wait(); <-slots }()
					}
					for range flight {
						slots <- struct{}{}
					}
				}()
			}
			wg.Wait()
			b.ReportMetric(float64(each*boards)/b.Elapsed().Seconds(), "acks/s")
			b.StopTimer()
			for _, c := range clients {
				c.Disconnect(0)
			}
		})
	}
}
