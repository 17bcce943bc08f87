package store

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"slices"

	"lanternfield/internal/series/chunk"
)

// A segment is a file of records: length, checksum, content. A record names a key by a number, or has packed points of one. A segment is only ever
// appended to, or replaced as a whole.

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

const (
	header     = 8
	mostRecord = 1 << 20
	kindKey    = 'k'
	kindChunk  = 'c'
)

// writer appends records to a segment.
type writer struct {
	file *os.File
	out  *bufio.Writer
	ids  map[string]uint64
	size int64
	buf  []byte
	refs map[string][]ref // where what was written is; nil where no directory is wanted
}

func create(name string) (*writer, error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return &writer{file: f, out: bufio.NewWriterSize(f, 1<<18), ids: map[string]uint64{}}, nil
}

func (w *writer) record(payload []byte) error {
	var head [header]byte
	binary.LittleEndian.PutUint32(head[:], uint32(len(payload)))
	binary.LittleEndian.PutUint32(head[4:], crc32.Checksum(payload, castagnoli))
	if _, err := w.out.Write(head[:]); err != nil {
		return err
	}
	_, err := w.out.Write(payload)
	w.size += int64(header + len(payload))
	return err
}

// chunk appends packed points of a key.
func (w *writer) chunk(key string, c *chunk.Chunk) error {
	id, known := w.ids[key]
	if !known {
		id = uint64(len(w.ids))
		w.ids[key] = id
		w.buf = binary.AppendUvarint(append(w.buf[:0], kindKey), id)
		if err := w.record(append(w.buf, key...)); err != nil {
			return err
		}
	}
	w.buf = binary.AppendUvarint(append(w.buf[:0], kindChunk), id)
	w.buf = binary.AppendVarint(w.buf, c.First())
	w.buf = binary.AppendUvarint(w.buf, uint64(c.Last()-c.First()))
	if w.refs != nil {
		w.refs[key] = append(w.refs[key], ref{at: w.size + header + int64(len(w.buf)), size: int64(len(c.Bytes())), sum: crc32.Checksum(c.Bytes(), castagnoli), first: c.First(), last: c.Last()})
	}
	return w.record(append(w.buf, c.Bytes()...))
}

// close writes all that is waiting, and has it on the disk.
func (w *writer) close() error {
	if w.refs != nil {
		if err := w.directory(w.refs); err != nil {
			return errors.Join(err, w.file.Close())
		}
	}
	return errors.Join(w.out.Flush(), w.file.Sync(), w.file.Close())
}

// ref is where packed points are in a segment.
type ref struct {
	at, size    int64 // of the content
	sum         uint32
	first, last int64
}

// index is what a segment has, by key.
type index struct {
	refs map[string][]ref
	size int64    // how far it could be read
	lost int64    // bytes after that
	why  string   // what was wrong there
	data []byte   // all of it, where it is small
	file *os.File // held open while all of it is read, piece by piece

	blocks []block           // of its directory, where it has one, and is not small; refs are empty then
	read   map[int][]entry   // blocks that were read last
	names  map[uint64]string // of keys, by their numbers, where more may be appended
}

// weight is about how many bytes of memory an index takes.
func (x *index) weight() int64 {
	n := int64(len(x.data)) + 48*int64(len(x.blocks)) + 12<<10*int64(len(x.read)) + 48*int64(len(x.names))
	for key, refs := range x.refs {
		n += int64(len(key)) + 64 + 40*int64(len(refs))
	}
	return n
}

// small is up to which size a segment is held in memory with its index.
const small = 2 << 20

// read reads the index of a segment: its directory, where it has one, else all of it as far as it goes.
func read(name string) (*index, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > small {
		if blocks := listed(f, info.Size()); blocks != nil {
			return &index{size: info.Size(), blocks: blocks, read: map[int][]entry{}}, nil
		}
	}
	return scan(name)
}

// scan reads a segment to find what is where: as far as it goes.
func scan(name string) (*index, error) {
	x := &index{refs: map[string][]ref{}, names: map[uint64]string{}}
	return x, x.goOn(name)
}

// goOn reads what has been appended to a segment since.
func (x *index) goOn(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	whole := info.Size()
	var in io.Reader
	if whole <= small {
		if x.data, err = io.ReadAll(f); err != nil {
			return err
		}
		whole = int64(len(x.data))
		in = bytes.NewReader(x.data[min(x.size, whole):])
	} else {
		x.data = nil
		in = bufio.NewReaderSize(io.NewSectionReader(f, x.size, whole-x.size), 1<<16)
	}
	x.lost, x.why = 0, ""
	keys := x.names
	var room []byte
	stop := func(why string) error {
		x.lost, x.why = whole-x.size, why
		return nil
	}
	for x.size < whole {
		var head [header]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			return stop("it ends in the middle of a record")
		}
		size := int64(binary.LittleEndian.Uint32(head[:]))
		sum := binary.LittleEndian.Uint32(head[4:])
		switch {
		case whole-x.size == trailer && [header]byte(head[:]) == trailerMark:
			x.size = whole
			return nil
		case size < 1 || size > mostRecord:
			return stop("a record has an impossible length")
		case x.size+header+size > whole:
			return stop("it ends in the middle of a record")
		}
		room = slices.Grow(room[:0], int(size))
		payload := room[:size]
		if _, err := io.ReadFull(in, payload); err != nil {
			return stop("it ends in the middle of a record")
		}
		if crc32.Checksum(payload, castagnoli) != sum {
			return stop("a record is not as it was written")
		}
		id, n := binary.Uvarint(payload[1:])
		switch {
		case payload[0] == kindBlock, payload[0] == kindList: // of the directory
		case n <= 0:
			return stop("a record cannot be read")
		case payload[0] == kindKey:
			keys[id] = string(payload[1+n:])
		case payload[0] == kindChunk:
			key, known := keys[id]
			first, a := binary.Varint(payload[1+n:])
			span, b := binary.Uvarint(payload[min(len(payload), 1+n+max(0, a)):])
			if !known || a <= 0 || b <= 0 {
				return stop("a record cannot be read")
			}
			skip := int64(1 + n + a + b)
			r := ref{at: x.size + header + skip, size: size - skip, first: first, last: first + int64(span)}
			r.sum = crc32.Checksum(payload[skip:], castagnoli)
			x.refs[key] = append(x.refs[key], r)
		default:
			return stop("a record is of a kind that this version does not know")
		}
		x.size += header + size
	}
	return nil
}

// points appends the points of a reference.
func points(to []chunk.Point, f io.ReaderAt, r ref) ([]chunk.Point, error) {
	data := make([]byte, r.size)
	if _, err := f.ReadAt(data, r.at); err != nil {
		return to, err
	}
	if crc32.Checksum(data, castagnoli) != r.sum {
		return to, fmt.Errorf("at byte %d: %w", r.at, chunk.ErrDamaged)
	}
	return chunk.Append(to, data)
}
