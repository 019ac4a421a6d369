package post

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/hub"
)

type broker struct{ post *Post }

// send publishes a notice as JSON at QoS 1 over a connection of its own, so that its acknowledgement is the answer.
func (b broker) send(ctx context.Context, r site.Route, n hub.Notice) (string, error) {
	cfg, ok := b.post.house.Site().Brokers[r.Broker]
	if !ok {
		return "", &NeverError{Answer: "there is no broker " + r.Broker + " any more"}
	}
	o, err := elsewhere.Options(cfg, b.post.house.Secret(site.Key{Kind: "broker", ID: r.Broker}, site.Password),
		cfg.ClientID+"-alerts")
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(n)
	if err != nil {
		return "", fmt.Errorf("the message cannot be written: %w", err)
	}
	c := paho.NewClient(o.SetCleanSession(true).SetConnectRetry(false).SetConnectTimeout(10 * time.Second))
	if err := done(ctx, c.Connect()); err != nil {
		return "", fmt.Errorf("no connection to the broker %s: %w", cfg.Name, err)
	}
	defer c.Disconnect(100)
	if err := done(ctx, c.Publish(r.To, 1, false, body)); err != nil {
		return "", fmt.Errorf("the broker %s did not acknowledge: %w", cfg.Name, err)
	}
	return "acknowledged by " + cfg.Name, nil
}

func done(ctx context.Context, t paho.Token) error {
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return errors.New("it took too long")
	}
}
