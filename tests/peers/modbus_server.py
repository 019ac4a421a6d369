"""A Modbus TCP device made with pymodbus: coils and registers that can be read and written, from the command line."""
import sys

from pymodbus.datastore import ModbusSequentialDataBlock, ModbusServerContext, ModbusSlaveContext
from pymodbus.server import StartTcpServer

host, port = sys.argv[1].split(":")
# Input registers: speed 1200, power 0x0001 0x0002 (65538 tenths of a watt), motor -100 (tenths of a degree), 21.5 as a float.
store = ModbusSlaveContext(
    zero_mode=True,
    di=ModbusSequentialDataBlock(0, [0, 1]),
    co=ModbusSequentialDataBlock(0, [0] * 8),
    ir=ModbusSequentialDataBlock(0, [1200, 1, 2, 0xFF9C, 0x41AC, 0x0000]),
    hr=ModbusSequentialDataBlock(0, [0] * 20),
)
print("ready", flush=True)
StartTcpServer(context=ModbusServerContext(slaves={7: store}, single=False), address=(host, int(port)))
