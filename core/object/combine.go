package object

import (
	"encoding/binary"
	"math/bits"
	"sync"
)

// nvmePoly is the reflected polynomial of CRC-64/NVME.
const nvmePoly = 0x9a6c9329ac4bc9b5

// CombineCRC64 gives the CRC-64/NVME of two contents joined end to end from
// their own sums and the second's length in bytes. So the sum of a big object
// is known from its parts, whatever order they were sent in, and a store's
// whole-object sum can be checked without reading anything again.
//
// A CRC is linear: running n zero bytes through it is a multiplication by a
// fixed bit matrix, and that for n the product of those for the powers of two in n.
func CombineCRC64(first, second Sum, secondSize int64) Sum {
	if secondSize == 0 {
		return first
	}
	crc := binary.BigEndian.Uint64([]byte(first.Value))
	for n, of := uint64(secondSize), zeros(); n != 0; n &= n - 1 {
		crc = of[bits.TrailingZeros64(n)].times(crc)
	}
	crc ^= binary.BigEndian.Uint64([]byte(second.Value))
	var out [8]byte
	binary.BigEndian.PutUint64(out[:], crc)
	return Sum{CRC64NVME, string(out[:])}
}

// zeros are the matrices that run zero bytes through the CRC: 1<<k of them the one at k.
var zeros = sync.OnceValue(func() *[64]matrix {
	var bit, two, four matrix
	bit[0] = nvmePoly // one zero bit
	for i := 1; i < 64; i++ {
		bit[i] = 1 << (i - 1)
	}
	two.square(&bit)
	four.square(&two)
	all := &[64]matrix{}
	all[0].square(&four)
	for k := 1; k < len(all); k++ {
		all[k].square(&all[k-1])
	}
	return all
})

// matrix is a 64×64 bit matrix, one column an element.
type matrix [64]uint64

func (m *matrix) times(v uint64) (sum uint64) {
	for i := 0; v != 0; i, v = i+1, v>>1 {
		if v&1 != 0 {
			sum ^= m[i]
		}
	}
	return sum
}

func (m *matrix) square(of *matrix) {
	for i := range m {
		m[i] = of.times(of[i])
	}
}
