package object

import "encoding/binary"

// nvmePoly is the reflected polynomial of CRC-64/NVME.
const nvmePoly = 0x9a6c9329ac4bc9b5

// CombineCRC64 gives the CRC-64/NVME of two contents joined end to end from
// their own sums and the second's length in bytes. So the sum of a big object
// is known from its parts, whatever order they were sent in, and a store's
// whole-object sum can be checked without reading anything again.
//
// A CRC is linear: running n zero bytes through it is a multiplication by a
// fixed bit matrix, which squaring reaches in log2(n) steps.
func CombineCRC64(first, second Sum, secondSize int64) Sum {
	if secondSize == 0 {
		return first
	}
	crc := binary.BigEndian.Uint64([]byte(first.Value))
	var odd, even matrix
	odd[0] = nvmePoly // one zero bit
	for i := 1; i < 64; i++ {
		odd[i] = 1 << (i - 1)
	}
	even.square(&odd) // two
	odd.square(&even) // four
	// The first squaring below makes eight zero bits: one byte.
	for n := uint64(secondSize); n != 0; {
		even.square(&odd)
		if n&1 != 0 {
			crc = even.times(crc)
		}
		if n >>= 1; n == 0 {
			break
		}
		odd.square(&even)
		if n&1 != 0 {
			crc = odd.times(crc)
		}
		n >>= 1
	}
	crc ^= binary.BigEndian.Uint64([]byte(second.Value))
	var out [8]byte
	binary.BigEndian.PutUint64(out[:], crc)
	return Sum{CRC64NVME, string(out[:])}
}

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
