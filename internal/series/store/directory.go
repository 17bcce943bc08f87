package store

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"slices"
)

// A packed segment ends with its directory: where the points of each key are, in blocks of some keys each, in their order; then the list of blocks; then
// where that list is. A chart of some series reads some blocks, and not a file of which it wants a thousandth. Where any of it is damaged, the whole segment
// is read instead.

const (
	kindBlock = 'b'
	kindList  = 'l'
	perBlock  = 64 // keys
	trailer   = 16
)

var trailerMark = [8]byte{'l', 'f', 's', 'e', 'r', 'i', 'e', 's'}

// block is some keys of a directory.
type block struct {
	first string // of its keys
	at    int64  // where its record begins
}

// entry is a key with its points.
type entry struct {
	key  string
	refs []ref
}

var errDirectory = errors.New("the directory of a segment cannot be read")

// directory appends that of all that was written.
func (w *writer) directory(refs map[string][]ref) error {
	keys := make([]string, 0, len(refs))
	for key := range refs {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	list := []byte{kindList}
	for some := range slices.Chunk(keys, perBlock) {
		list = appendText(list, some[0])
		list = binary.AppendUvarint(list, uint64(w.size))
		content := []byte{kindBlock}
		for _, key := range some {
			content = binary.AppendUvarint(appendText(content, key), uint64(len(refs[key])))
			for _, r := range refs[key] {
				content = binary.AppendUvarint(content, uint64(r.at))
				content = binary.AppendUvarint(content, uint64(r.size))
				content = binary.LittleEndian.AppendUint32(content, r.sum)
				content = binary.AppendVarint(content, r.first)
				content = binary.AppendUvarint(content, uint64(r.last-r.first))
			}
		}
		if len(content) > mostRecord {
			return nil // it is read as a whole
		}
		if err := w.record(content); err != nil {
			return err
		}
	}
	if len(list) > mostRecord {
		return nil
	}
	at := w.size
	if err := w.record(list); err != nil {
		return err
	}
	_, err := w.out.Write(binary.LittleEndian.AppendUint64(trailerMark[:], uint64(at)))
	return err
}

func appendText(to []byte, text string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

// reading takes a record apart; once something is wrong, all that follows is zero.
type reading struct {
	data []byte
	bad  bool
}

func (r *reading) take(n uint64) []byte {
	if r.bad || n > uint64(len(r.data)) {
		r.bad = true
		return nil
	}
	out := r.data[:n]
	r.data = r.data[n:]
	return out
}

func (r *reading) number() uint64 {
	v, n := binary.Uvarint(r.data)
	r.bad = r.bad || n <= 0
	r.take(uint64(max(0, n)))
	return v
}

func (r *reading) signed() int64 {
	v, n := binary.Varint(r.data)
	r.bad = r.bad || n <= 0
	r.take(uint64(max(0, n)))
	return v
}

func (r *reading) text() string { return string(r.take(r.number())) }

// recordAt reads one record of a kind.
func recordAt(f io.ReaderAt, at int64, kind byte) (*reading, error) {
	var head [header]byte
	if _, err := f.ReadAt(head[:], at); err != nil {
		return nil, err
	}
	size := binary.LittleEndian.Uint32(head[:])
	if size < 1 || size > mostRecord {
		return nil, errDirectory
	}
	payload := make([]byte, size)
	if _, err := f.ReadAt(payload, at+header); err != nil {
		return nil, err
	}
	if crc32.Checksum(payload, castagnoli) != binary.LittleEndian.Uint32(head[4:]) || payload[0] != kind {
		return nil, errDirectory
	}
	return &reading{data: payload[1:]}, nil
}

// listed reads the list of blocks of a segment that has a directory; nil where it has none, or it cannot be read.
func listed(f *os.File, size int64) []block {
	var end [trailer]byte
	if size < trailer {
		return nil
	}
	if _, err := f.ReadAt(end[:], size-trailer); err != nil || [8]byte(end[:8]) != trailerMark {
		return nil
	}
	r, err := recordAt(f, int64(binary.LittleEndian.Uint64(end[8:])), kindList)
	if err != nil {
		return nil
	}
	var out []block
	for len(r.data) > 0 && !r.bad {
		out = append(out, block{r.text(), int64(r.number())})
	}
	if r.bad {
		return nil
	}
	return out
}

// entriesOf reads the i-th block of a directory.
func (x *index) entriesOf(f io.ReaderAt, i int) ([]entry, error) {
	if all, there := x.read[i]; there {
		return all, nil
	}
	r, err := recordAt(f, x.blocks[i].at, kindBlock)
	if err != nil {
		return nil, err
	}
	var out []entry
	for len(r.data) > 0 && !r.bad {
		e := entry{key: r.text(), refs: make([]ref, min(r.number(), 1<<12))}
		for j := range e.refs {
			k := &e.refs[j]
			k.at, k.size = int64(r.number()), int64(r.number())
			if sum := r.take(4); sum != nil {
				k.sum = binary.LittleEndian.Uint32(sum)
			}
			k.first = r.signed()
			k.last = k.first + int64(r.number())
			r.bad = r.bad || k.at < 0 || k.size < 0 || k.at+k.size > x.size
		}
		out = append(out, e)
	}
	if r.bad {
		return nil, errDirectory
	}
	if len(x.read) >= mostBlocks {
		clear(x.read)
	}
	x.read[i] = out
	return out, nil
}

// mostBlocks is how many blocks of a directory are held at the same time.
const mostBlocks = 8

// of gives where the points of a key are.
func (s *Store) of(g segment, x *index, key string) []ref {
	if x.blocks == nil {
		return x.refs[key]
	}
	i, there := slices.BinarySearchFunc(x.blocks, key, func(b block, key string) int { return compare(b.first, key) })
	if !there {
		i--
	}
	if i < 0 {
		return nil
	}
	all, err := s.entries(g, x, i)
	if err != nil {
		return x.refs[key] // read as a whole by now
	}
	if j, there := slices.BinarySearchFunc(all, key, func(e entry, key string) int { return compare(e.key, key) }); there {
		return all[j].refs
	}
	return nil
}

// keys gives every key of a segment to a function.
func (s *Store) keys(g segment, x *index, each func(string)) {
	for i := range x.blocks {
		all, err := s.entries(g, x, i)
		if err != nil {
			break
		}
		for _, e := range all {
			each(e.key)
		}
	}
	for key := range x.refs {
		each(key)
	}
}

// entries reads a block of a directory, and the whole segment where that cannot be.
func (s *Store) entries(g segment, x *index, i int) ([]entry, error) {
	if all, there := x.read[i]; there {
		return all, nil
	}
	f, err := os.Open(s.path(g))
	if err == nil {
		defer f.Close()
		var all []entry
		if all, err = x.entriesOf(f, i); err == nil {
			return all, nil
		}
	}
	whole, failed := scan(s.path(g))
	if failed != nil {
		whole = &index{size: 0, lost: g.size, why: failed.Error()}
	}
	*x = *whole
	if x.lost > 0 {
		s.lost[g.name] = Loss{g.name, x.lost, x.why}
	}
	return nil, err
}

func compare(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}
