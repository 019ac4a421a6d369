"""Browses for consoles over multicast DNS on loopback and prints the first: name, port, what is told of it."""
import time

from zeroconf import Zeroconf, ServiceBrowser, IPVersion
found = []
class L:
    def add_service(self, z, t, n):
        i = z.get_service_info(t, n, 3000)
        if i: found.append((n, i.port, i.properties))
    def update_service(self, *a): pass
    def remove_service(self, *a): pass
z = Zeroconf(interfaces=['127.0.0.1'], ip_version=IPVersion.V4Only)
ServiceBrowser(z, '_http._tcp.local.', L())
for _ in range(80):
    if found: break
    time.sleep(0.1)
print(found[0] if found else "nothing")
z.close()
