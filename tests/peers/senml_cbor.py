"""A board that sends a SenML pack in CBOR over MQTT, made with cbor2 and paho-mqtt: senml_cbor.py HOST:PORT DEVICE KEY."""
import sys
import time
from decimal import Decimal

import cbor2
import paho.mqtt.client as mqtt

address, device, key = sys.argv[1:]
host, port = address.split(":")
pack = [
    {-2: "urn:dev:c:", -3: Decimal(int(time.time() * 1000)) / 1000, 0: "level", 1: "m", 2: Decimal("1.25")},
    {0: "power", 1: "W", 2: 40, 5: Decimal("7200.5")},
    {0: "lid", 4: True},
    {0: "label", 3: "bin three"},
]
client = mqtt.Client(client_id="cbor", protocol=mqtt.MQTTv5)
client.username_pw_set(device, key)
client.connect(host, int(port))
client.loop_start()
told = client.publish(f"ember/{device}/r", cbor2.dumps(pack), qos=1)
told.wait_for_publish(10)
client.disconnect()
print("published" if told.is_published() else "refused")
