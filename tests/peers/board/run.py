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


levels = {}


class Pin:
    OUT = 1

    def __init__(self, number, mode):
        self.number = number

    def value(self, on):
        levels[self.number] = int(on)


class Timer:
    """As on a board that knows no virtual timers and no hard interrupts."""

    PERIODIC = 1
    running = []

    def __init__(self, number, period, mode, callback):
        if number < 0:
            raise ValueError("invalid Timer number")
        Timer.running.append(callback)


class MQTTException(Exception):
    pass


class Client:
    last = None
    refuse = False

    def __init__(self, *args, **kw):
        self.queue = []
        Client.last = self

    def set_callback(self, f):
        self.callback = f

    def connect(self):
        if Client.refuse:
            raise MQTTException(5)

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


sys.modules["machine"] = types.SimpleNamespace(Pin=Pin, Timer=Timer)
sys.modules["network"] = types.SimpleNamespace(WLAN=lambda i: Wlan(), STA_IF=0)
sys.modules["umqtt"] = types.ModuleType("umqtt")
sys.modules["umqtt.simple"] = types.SimpleNamespace(MQTTClient=Client)
file = os.path.abspath(sys.argv[1])
os.chdir(tempfile.mkdtemp())
code = runpy.run_path(file)
board, wifi = code["Board"](), Wlan()


def tick(ms):
    """Time goes by, and the timer runs whatever the program does."""
    for _ in range(0, ms, 500):
        clock[0] += min(ms, 500)
        for callback in Timer.running:
            callback(None)


def step(ms):
    tick(ms)
    board.step(wifi)


def outputs():
    return [levels[o["pin"]] for o in code["OUTPUTS"].values()]


safe = [int(o["safe"]) for o in code["OUTPUTS"].values()]


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
if code["OUTPUTS"]:
    assert outputs() != safe
tick(3500)  # the program stands still: it waits for a hub that hangs
assert outputs() == safe, "without beats it falls to the safe value, whatever the program waits for"
step(10)
for name in code["OUTPUTS"]:
    assert not board.state[name]
Client.last.queue.append((own + "lease", "3"))
step(10)
Client.refuse = True  # the key is refused from now on
board.client = None
for _ in range(20):
    step(1000)
assert board.client is None and outputs() == safe
Client.refuse = False
step(20000)
assert board.client is not None, "it comes back when the key is right again"
Client.last.check_msg = lambda: 1 / 0
step(10)
step(20000)
