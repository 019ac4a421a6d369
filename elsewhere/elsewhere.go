// Package elsewhere says how a connection to a broker elsewhere is opened, for whoever needs one.
package elsewhere

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"strings"

	paho "github.com/eclipse/paho.mqtt.golang"

	"idleember/core/site"
)

// Options are those of a connection to a broker with its account and certificate.
func Options(b site.Broker, password, clientID string) (*paho.ClientOptions, error) {
	address := strings.NewReplacer("mqtts://", "ssl://", "mqtt://", "tcp://").Replace(b.Address)
	o := paho.NewClientOptions().AddBroker(address).SetClientID(clientID).SetUsername(b.User).SetPassword(
		password).SetAutoReconnect(false)
	if b.CA != "" {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(b.CA)) {
			return nil, fmt.Errorf("the certificate entered for the broker is no PEM certificate")
		}
		o.SetTLSConfig(&tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12})
	}
	return o, nil
}
