package modbus

import (
	"encoding/binary"
	"errors"
	"net"
	"sync"
	"time"

	"idleember/core/site"
)

const (
	idleWait    = 2 * time.Minute
	mostClients = 16
)

// Bank is what a Modbus server holds. A bit is the word 0 or 1. Errors that are an Exception go to the client as such,
// any other as DeviceFailure.
type Bank interface {
	Read(unit byte, t site.Table, address, n int) ([]uint16, error)
	Write(unit byte, t site.Table, address int, words []uint16) error
}

// Server answers Modbus TCP requests from a Bank. Use Serve to start one.
type Server struct {
	bank  Bank
	allow func(net.Addr) bool
	l     net.Listener
	done  sync.WaitGroup
	mu    sync.Mutex
	conns map[net.Conn]bool
}

// Serve answers on a listener until Close. allow says who may connect; nil: anybody.
func Serve(l net.Listener, b Bank, allow func(net.Addr) bool) *Server {
	s := &Server{bank: b, allow: allow, l: l, conns: map[net.Conn]bool{}}
	s.done.Add(1)
	go s.accept()
	return s
}

// Close ends all connections.
func (s *Server) Close() {
	_ = s.l.Close()
	s.mu.Lock()
	for c := range s.conns {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.done.Wait()
}

func (s *Server) accept() {
	defer s.done.Done()
	for {
		c, err := s.l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(50 * time.Millisecond)
			continue
		}
		s.mu.Lock()
		ok := len(s.conns) < mostClients && (s.allow == nil || s.allow(c.RemoteAddr()))
		if ok {
			s.conns[c] = true
			s.done.Add(1)
		}
		s.mu.Unlock()
		if !ok {
			_ = c.Close()
			continue
		}
		go s.serve(c)
	}
}

func (s *Server) serve(c net.Conn) {
	defer s.done.Done()
	defer func() {
		_ = c.Close()
		s.mu.Lock()
		delete(s.conns, c)
		s.mu.Unlock()
	}()
	for {
		_ = c.SetDeadline(time.Now().Add(idleWait))
		transaction, unit, pdu, err := readFrame(c)
		if err != nil {
			return
		}
		if writeFrame(c, transaction, unit, s.answer(unit, pdu)) != nil {
			return
		}
	}
}

// answer does what a request asks for.
func (s *Server) answer(unit byte, pdu []byte) []byte {
	out, err := s.perform(unit, pdu)
	if err == nil {
		return out
	}
	code := DeviceFailure
	var x Exception
	if errors.As(err, &x) {
		code = x
	}
	return []byte{pdu[0] | 0x80, byte(code)}
}

var tables = map[byte]site.Table{readCoils: site.Coil, readDiscrete: site.Discrete, readHolding: site.Holding,
	readInput: site.Input}

func (s *Server) perform(unit byte, pdu []byte) ([]byte, error) {
	if len(pdu) < 5 {
		return nil, IllegalValue
	}
	address, n := int(binary.BigEndian.Uint16(pdu[1:])), int(binary.BigEndian.Uint16(pdu[3:]))
	switch code := pdu[0]; code {
	case readCoils, readDiscrete, readHolding, readInput:
		most := mostWords
		if code == readCoils || code == readDiscrete {
			most = mostBits
		}
		switch {
		case len(pdu) != 5 || n < 1 || n > most:
			return nil, IllegalValue
		case address+n > 65536:
			return nil, IllegalAddress
		}
		words, err := s.bank.Read(unit, tables[code], address, n)
		if err != nil {
			return nil, err
		}
		return packed(code, words), nil
	case writeCoil:
		if len(pdu) != 5 || n != 0 && n != 0xff00 {
			return nil, IllegalValue
		}
		return pdu, s.bank.Write(unit, site.Coil, address, []uint16{uint16(n / 0xff00)})
	case writeRegister:
		if len(pdu) != 5 {
			return nil, IllegalValue
		}
		return pdu, s.bank.Write(unit, site.Holding, address, []uint16{uint16(n)})
	case writeCoils, writeRegisters:
		words, err := unpacked(pdu, n)
		switch {
		case err != nil:
			return nil, err
		case address+n > 65536:
			return nil, IllegalAddress
		}
		table := site.Holding
		if code == writeCoils {
			table = site.Coil
		}
		return pdu[:5], s.bank.Write(unit, table, address, words)
	}
	return nil, IllegalFunction
}

// packed makes the answer to a reading request.
func packed(code byte, words []uint16) []byte {
	if code == readCoils || code == readDiscrete {
		bits := make([]byte, (len(words)+7)/8)
		for i, w := range words {
			bits[i/8] |= byte(w&1) << (i % 8)
		}
		return append([]byte{code, byte(len(bits))}, bits...)
	}
	out := []byte{code, byte(2 * len(words))}
	for _, w := range words {
		out = binary.BigEndian.AppendUint16(out, w)
	}
	return out
}

// unpacked takes the words out of a request to write several.
func unpacked(pdu []byte, n int) ([]uint16, error) {
	bits := pdu[0] == writeCoils
	most, want := mostWordsWrite, 2*n
	if bits {
		most, want = mostBitsWrite, (n+7)/8
	}
	if n < 1 || n > most || len(pdu) != 6+want || int(pdu[5]) != want {
		return nil, IllegalValue
	}
	words := make([]uint16, n)
	for i := range words {
		if bits {
			words[i] = uint16(pdu[6+i/8] >> (i % 8) & 1)
		} else {
			words[i] = binary.BigEndian.Uint16(pdu[6+2*i:])
		}
	}
	return words, nil
}
