"""Runs MicroPython starter code with stand-ins for a board's modules, and plays a hub to it for a few steps."""
import os
import runpy
import sys
import tempfile
import time
import types

clock = [0]
time.ticks_ms = lambda: clock[0]
time.ticks_add = lambda a, b: a + b
time.ticks_diff = lambda a, b: a - b


class Pin:
    OUT = 1

    def __init__(self, number, mode):
        self.number = number

    def value(self, on):
        print("pin", self.number, int(on))


class Client:
    last = None

    def __init__(self, *args, **kw):
        self.queue = []
        Client.last = self

    def set_callback(self, f):
        self.callback = f

    def connect(self):
        pass

    def subscribe(self, topic):
        print("subscribed", topic)

    def publish(self, topic, payload, qos=0):
        print("published", topic, payload)

    def check_msg(self):
        if self.queue:
            topic, payload = self.queue.pop(0)
            self.callback(topic.encode(), payload.encode())


class Wlan:
    def isconnected(self):
        return True


sys.modules["machine"] = types.SimpleNamespace(Pin=Pin)
sys.modules["network"] = types.SimpleNamespace(WLAN=lambda i: Wlan(), STA_IF=0)
sys.modules["umqtt"] = types.ModuleType("umqtt")
sys.modules["umqtt.simple"] = types.SimpleNamespace(MQTTClient=Client)
file = os.path.abspath(sys.argv[1])
os.chdir(tempfile.mkdtemp())
code = runpy.run_path(file)
board, wifi = code["Board"](), Wlan()


def step(ms):
    clock[0] += ms
    board.step(wifi)


step(10)
own = "ember/" + code["DEVICE"] + "/"
for name in code["OUTPUTS"]:
    Client.last.queue.append((own + "want/" + name, "on"))
    step(10)
    assert not board.state[name], "a want must wait for the first beat"
    print("kept", open("wants.json").read())
Client.last.queue.append((own + "lease", "3"))
step(10)
for name in code["OUTPUTS"]:
    assert board.state[name], "after the beat it counts"
step(3500)
for name in code["OUTPUTS"]:
    assert not board.state[name], "without beats it falls to the safe value"
step(20000)
