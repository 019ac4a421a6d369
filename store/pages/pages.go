// Package pages reads an SQLite database page by page and without SQLite, so that what is whole of a damaged one can be
// had. It follows the published "SQLite Database File Format" (file format 4, write-ahead log 3007000) and trusts
// nothing that it reads: every number is bounded by the size of the file, and no page is read twice.
package pages

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
)

// Row is one row of a table: its rowid where it has one, and its values, each nil, int64, float64, string or []byte.
type Row struct {
	ID     int64
	Values []any
}

// Object is a table or an index, as the schema names it.
type Object struct {
	Type, Name, Table string
	Root              uint32
}

// File is a database with its write-ahead log. Use Open to get one.
type File struct {
	// Remarks tell what of the file itself was found damaged.
	Remarks []string
	// FreeKnown says that it is known which pages are free; else what no table reaches may have been deleted long ago.
	FreeKnown bool

	file, log *os.File
	size      int
	usable    int
	count     uint32
	logged    map[uint32]int64 // where in the log the newest content of a page is
	free      map[uint32]bool
	seen      map[uint32]bool
}

const (
	magic       = "SQLite format 3\x00"
	usualSize   = 1024 // of pages, where the header does not tell
	interior    = 0x05
	leaf        = 0x0d
	keyInterior = 0x02
	keyLeaf     = 0x0a
	deepest     = 20
)

// Open opens a database for reading; nothing is ever written to it.
func Open(path string) (*File, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is no file", path)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	f := &File{file: file, size: usualSize, logged: map[uint32]int64{}, free: map[uint32]bool{}, seen: map[uint32]bool{}}
	if f.log, err = os.Open(path + "-wal"); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, errors.Join(err, file.Close())
	}
	header := make([]byte, 100)
	n, _ := file.ReadAt(header, 0)
	size, ok := 0, n == 100 && string(header[:16]) == magic
	if ok {
		size, ok = pageSize(uint32(binary.BigEndian.Uint16(header[16:])))
	}
	reserved := 0
	if ok {
		f.size, reserved = size, int(header[20])
	} else if info.Size() > 0 {
		f.Remarks = append(f.Remarks, "the beginning of the file is damaged")
	}
	if ok && reserved > f.size-480 {
		reserved = 0
		f.Remarks = append(f.Remarks, "the beginning of the file is damaged")
	}
	f.usable = f.size - reserved
	f.count = uint32(min(info.Size()/int64(f.size), math.MaxInt32))
	f.readLog()
	f.readFree()
	return f, nil
}

// Close closes the files.
func (f *File) Close() error {
	err := f.file.Close()
	if f.log != nil {
		err = errors.Join(err, f.log.Close())
	}
	return err
}

// Pages is how many pages there are.
func (f *File) Pages() int { return int(f.count) }

func pageSize(n uint32) (int, bool) {
	if n == 1 {
		n = 1 << 16
	}
	return int(n), n >= 512 && n <= 1<<16 && n&(n-1) == 0
}

// readLog finds the newest committed content of each page in the write-ahead log.
func (f *File) readLog() {
	if f.log == nil {
		return
	}
	head := make([]byte, 32)
	if n, _ := f.log.ReadAt(head, 0); n < 32 {
		return // it is empty: everything is in the file
	}
	var order binary.ByteOrder = binary.LittleEndian
	kind := binary.BigEndian.Uint32(head)
	if kind&1 == 1 {
		order = binary.BigEndian
	}
	size, ok := pageSize(binary.BigEndian.Uint32(head[8:]))
	var sum [2]uint32
	if !ok || kind&^1 != 0x377f0682 || !addSum(&sum, order, head[:24]) ||
		sum != [2]uint32{binary.BigEndian.Uint32(head[24:]), binary.BigEndian.Uint32(head[28:])} {
		f.Remarks = append(f.Remarks, "the write-ahead log is damaged from its beginning on; what was written last may be "+
			"missing")
		return
	}
	if f.count == 0 {
		f.size, f.usable = size, size
	}
	if size != f.size {
		f.Remarks = append(f.Remarks, "the write-ahead log is of another file")
		return
	}
	frame := make([]byte, 24+size)
	pending, ended := map[uint32]int64{}, false
	for at := int64(32); ; at += int64(len(frame)) {
		if n, _ := f.log.ReadAt(frame, at); n < len(frame) {
			return
		}
		if string(frame[8:16]) != string(head[16:24]) {
			ended = true // what follows is of an earlier turn
			continue
		}
		addSum(&sum, order, frame[:8])
		addSum(&sum, order, frame[24:])
		if ended || sum != [2]uint32{binary.BigEndian.Uint32(frame[16:]), binary.BigEndian.Uint32(frame[20:])} {
			break
		}
		page, whole := binary.BigEndian.Uint32(frame), binary.BigEndian.Uint32(frame[4:])
		if pending[page] = at + 24; whole == 0 {
			continue
		}
		for n, at := range pending {
			f.logged[n] = at
		}
		clear(pending)
		f.count = max(f.count, min(whole, math.MaxInt32))
	}
	f.Remarks = append(f.Remarks, "the write-ahead log is damaged; what was written last may be missing")
}

// addSum goes on with the checksum of the write-ahead log.
func addSum(s *[2]uint32, order binary.ByteOrder, b []byte) bool {
	for ; len(b) >= 8; b = b[8:] {
		s[0] += order.Uint32(b) + s[1]
		s[1] += order.Uint32(b[4:]) + s[0]
	}
	return true
}

// page reads a page; nil where there is none.
func (f *File) page(n uint32) []byte {
	if n == 0 || n > f.count {
		return nil
	}
	b := make([]byte, f.size)
	var from io.ReaderAt = f.file
	at, ok := f.logged[n]
	if ok {
		from = f.log
	} else {
		at = int64(n-1) * int64(f.size)
	}
	if got, _ := from.ReadAt(b, at); got < len(b) {
		return nil
	}
	return b
}

// readFree finds the pages that nothing is kept in.
func (f *File) readFree() {
	first := f.page(1)
	if first == nil || string(first[:16]) != magic {
		return
	}
	trunk, many := binary.BigEndian.Uint32(first[32:]), binary.BigEndian.Uint32(first[36:])
	for trunk != 0 {
		b := f.page(trunk)
		if b == nil || f.free[trunk] || trunk == 1 {
			return
		}
		f.free[trunk] = true
		n := binary.BigEndian.Uint32(b[4:])
		if int64(n) > int64(f.usable/4-2) {
			return
		}
		for i := range n {
			f.free[binary.BigEndian.Uint32(b[8+4*i:])] = true
		}
		trunk = binary.BigEndian.Uint32(b)
	}
	if f.FreeKnown = uint32(len(f.free)) == many; !f.FreeKnown {
		clear(f.free)
	}
}

// Schema reads what tables and indexes there are; whole: all of it could be read.
func (f *File) Schema() (list []Object, whole bool) {
	whole = true
	f.Walk(1, func(r Row) bool {
		if len(r.Values) < 5 {
			return false
		}
		_, text := r.Values[0].(string)
		return text
	}, func(r Row) {
		var o Object
		o.Type, _ = r.Values[0].(string)
		o.Name, _ = r.Values[1].(string)
		o.Table, _ = r.Values[2].(string)
		root, _ := r.Values[3].(int64)
		if o.Root = uint32(root); root > 0 && root <= int64(f.count) {
			list = append(list, o)
		}
	}, func(uint32) { whole = false })
	return list, whole
}

// Walk calls each with the rows of the table or index that begins at a page, in their order, and gap for each page
// where something is missing. What does not fit is missing too.
func (f *File) Walk(root uint32, fits func(Row) bool, each func(Row), gap func(page uint32)) {
	f.walk(root, 0, 0, fits, each, gap)
}

// Long, because it is one pass over the pages, with a case for each kind of page.
func (f *File) walk(n uint32, depth int, kind byte, fits func(Row) bool, each func(Row), gap func(uint32)) {
	b := f.page(n)
	if b == nil || f.seen[n] || depth > deepest {
		gap(n)
		return
	}
	p, err := f.parse(n, b)
	if err != nil || kind != 0 && (p.kind == leaf || p.kind == interior) != (kind == leaf) {
		gap(n)
		return
	}
	if kind = keyLeaf; p.kind == leaf || p.kind == interior {
		kind = leaf
	}
	bad, good := false, 0
	for _, c := range p.cells {
		if c.row != nil && fits(*c.row) {
			good++
		} else if c.row != nil || c.broken {
			bad = true
		}
	}
	if p.kind == leaf && bad && good == 0 {
		gap(n) // it is one of something else
		return
	}
	f.seen[n] = true
	for _, c := range p.cells {
		if c.child != 0 {
			f.walk(c.child, depth+1, kind, fits, each, gap)
		}
		if c.row != nil && fits(*c.row) {
			f.sees(c)
			each(*c.row)
		}
	}
	if bad {
		gap(n)
	}
	if p.right != 0 {
		f.walk(p.right, depth+1, kind, fits, each, gap)
	}
}

func (f *File) sees(c cell) {
	for _, n := range c.more {
		f.seen[n] = true
	}
}

// Skip counts a table or index as read, so that its pages are no orphans.
func (f *File) Skip(root uint32) {
	f.Walk(root, func(Row) bool { return true }, func(Row) {}, func(uint32) {})
}

// Orphans calls each with the rows of every page that none of what was walked reaches, and that is not free. keyed says
// that they have no rowid. Where each returns true they are taken.
func (f *File) Orphans(each func(page uint32, keyed bool, rows []Row) bool) {
	for n := uint32(2); n <= f.count; n++ {
		if f.seen[n] || f.free[n] {
			continue
		}
		b := f.page(n)
		if b == nil || b[0] != leaf && b[0] != keyLeaf && b[0] != keyInterior {
			continue
		}
		p, err := f.parse(n, b)
		if err != nil {
			continue
		}
		var rows []Row
		for _, c := range p.cells {
			if c.row != nil {
				rows = append(rows, *c.row)
			}
		}
		if len(rows) > 0 && each(n, p.kind != leaf, rows) {
			f.seen[n] = true
		}
	}
}

type cell struct {
	child  uint32
	row    *Row
	broken bool
	more   []uint32 // overflow pages
}

type parsed struct {
	kind  byte
	cells []cell
	right uint32
}

var errPage = errors.New("it is no page of a table")

func (f *File) parse(n uint32, b []byte) (p parsed, err error) {
	at := 0
	if n == 1 {
		at = 100
	}
	p.kind = b[at]
	head := 8
	switch p.kind {
	case leaf, keyLeaf:
	case interior, keyInterior:
		head = 12
		p.right = binary.BigEndian.Uint32(b[at+8:])
	default:
		return p, errPage
	}
	many := int(binary.BigEndian.Uint16(b[at+3:]))
	if at+head+2*many > f.usable {
		return p, errPage
	}
	for i := range many {
		from := int(binary.BigEndian.Uint16(b[at+head+2*i:]))
		if from < at+head+2*many || from >= f.usable {
			p.cells = append(p.cells, cell{broken: true})
			continue
		}
		p.cells = append(p.cells, f.cell(p.kind, b[from:f.usable]))
	}
	return p, nil
}

func (f *File) cell(kind byte, b []byte) (c cell) {
	r := reader{b: b}
	if kind == interior || kind == keyInterior {
		c.child = binary.BigEndian.Uint32(r.take(4))
	}
	if kind == interior {
		c.broken = r.short
		return c
	}
	size, row := r.varint(), Row{}
	if kind == leaf {
		row.ID = r.varint()
	}
	// How much of a row stands in its page, as the format's chapter 1.6 has it.
	most := f.usable - 35
	if kind != leaf {
		most = (f.usable-12)*64/255 - 23
	}
	if r.short || size < 0 || size > int64(f.count)*int64(f.usable) {
		c.broken = true
		return c
	}
	local := int(size)
	if size > int64(most) {
		least := (f.usable-12)*32/255 - 23
		if local = least + int((size-int64(least))%int64(f.usable-4)); local > most {
			local = least
		}
	}
	body := append([]byte(nil), r.take(local)...)
	if size > int64(local) {
		next, mine := binary.BigEndian.Uint32(r.take(4)), map[uint32]bool{}
		for !r.short && int64(len(body)) < size {
			page := f.page(next)
			if page == nil || f.free[next] || f.seen[next] || mine[next] {
				c.broken = true
				return c
			}
			mine[next] = true
			c.more = append(c.more, next)
			next = binary.BigEndian.Uint32(page)
			body = append(body, page[4:4+min(size-int64(len(body)), int64(f.usable-4))]...)
		}
	}
	var err error
	if row.Values, err = record(body); err != nil || r.short {
		c.broken = true
		return c
	}
	c.row = &row
	return c
}

var errRecord = errors.New("it is no row")

// record reads the values of a row.
func record(b []byte) (out []any, err error) {
	r := reader{b: b}
	size := r.varint()
	if r.short || size < 1 || size > int64(len(b)) {
		return nil, errRecord
	}
	types, values := reader{b: b[:size]}, reader{b: b[size:]}
	types.take(len(b) - len(r.b))
	for len(types.b) > 0 && !types.short {
		switch t := types.varint(); {
		case t == 0:
			out = append(out, nil)
		case t >= 1 && t <= 6:
			raw := values.take([7]int{0, 1, 2, 3, 4, 6, 8}[t])
			n := int64(int8(raw[0]))
			for _, x := range raw[1:] {
				n = n<<8 | int64(x)
			}
			out = append(out, n)
		case t == 7:
			out = append(out, math.Float64frombits(binary.BigEndian.Uint64(values.take(8))))
		case t == 8 || t == 9:
			out = append(out, t-8)
		case t >= 12 && (t-12)/2 <= int64(len(values.b)):
			if raw := values.take(int(t-12) / 2); t%2 == 1 {
				out = append(out, string(raw))
			} else {
				out = append(out, append([]byte{}, raw...))
			}
		default:
			return nil, fmt.Errorf("%w: a value of type %d", errRecord, t)
		}
	}
	if types.short || values.short || len(values.b) > 0 {
		return nil, errRecord
	}
	return out, nil
}

// reader reads what may be too short.
type reader struct {
	b     []byte
	short bool
}

func (r *reader) take(n int) []byte {
	if n > len(r.b) {
		r.b, r.short = nil, true
		return make([]byte, n)
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

// varint reads a number of 1 to 9 bytes, the high ones first.
func (r *reader) varint() int64 {
	var n uint64
	for i := range 9 {
		x := r.take(1)[0]
		if i == 8 {
			return int64(n<<8 | uint64(x))
		}
		if n = n<<7 | uint64(x&0x7f); x < 0x80 {
			break
		}
	}
	return int64(n)
}
