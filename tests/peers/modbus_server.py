"""A Modbus TCP device made with pymodbus: coils and registers that can be read and written, from the command line."""
import sys

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext
from pymodbus.server import StartTcpServer

host, port = sys.argv[1].split(":")
# Input registers: speed 1200, power 0x0001 0x0002 (65538 tenths of a watt), motor -100 (tenths of a degree), 21.5 as a float.
class Device(ModbusSlaveContext):
    """One that may refuse to write several coils or registers at once, as many small ones do."""

    def validate(self, fc, address, count=1):
        return not (fc in (15, 16) and "--one-by-one" in sys.argv) and super().validate(fc, address, count)


store = Device(
    zero_mode=True,
    di=ModbusSequentialDataBlock(0, [0, 1]),
    co=ModbusSequentialDataBlock(0, [0] * 8),
    ir=ModbusSequentialDataBlock(0, [1200, 1, 2, 0xFF9C, 0x41AC, 0x0000]),
    hr=ModbusSequentialDataBlock(0, [0] * 16 + [0x7FC0, 0, 0, 0]),  # a float that is not a number at 16
)
print("ready", flush=True)
StartTcpServer(context=ModbusServerContext(slaves={7: store}, single=False), address=(host, int(port)))
