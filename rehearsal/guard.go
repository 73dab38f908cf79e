package rehearsal

import (
	"bytes"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/rehearsal/chip"
)

// holds reports whether a stored checksum is right, as a loader on the device finds
// it: it reads erased bytes where an image has holes.
func (j *judge) holds(c *chip.Chip, m *device.Map, d *device.Checksum) bool {
	image := c.Image()
	s, err := d.Spec(m, image)
	if err != nil {
		return false
	}
	place := c.BankAt(s.Place.First)
	if place == nil || !place.Span.Covers(*s.Place) {
		return false // what is not kept without power
	}
	inBanks := true
	for _, span := range s.Feed.Spans {
		b := c.BankAt(span.First)
		inBanks = inBanks && b != nil && b.Span.Covers(span)
	}
	erased := m.ErasedAt(s.Feed.Spans[0].First)
	s.Feed.Hole = &erased
	var stored []byte
	if inBanks && s.Kind.CRC != nil && s.Feed.Word <= 1 && (s.Feed.Place == nil || s.Feed.Slot == checksum.SlotSkip) {
		stored, err = s.Kind.Join(j.parts(c, s)).Stored(s.Order, int(s.Place.Size()))
	} else {
		_, stored, err = s.Compute(image, 1)
	}
	return err == nil && bytes.Equal(c.Peek(place, *s.Place), stored)
}

// sumKey is what blocks have been summed up of, and by what.
type sumKey struct {
	stretch *chip.Stretch
	crc     checksum.CRC
}

// blockSum is a block's CRC, and when the block had been changed last.
type blockSum struct {
	stamp uint64
	part  checksum.Part
}

// parts returns what a CRC is fed, block by block. From one moment to the next few
// blocks change; those of the others are known.
func (j *judge) parts(c *chip.Chip, s *device.Spec) (parts []checksum.Part) {
	crc := *s.Kind.CRC
	for _, span := range s.Feed.Parts() {
		b := c.BankAt(span.First)
		for at := span.First; ; {
			data, n := b.Next(at, span.Last)
			switch {
			case data == nil:
				for left := n; left > 0; {
					step := min(left, chip.BlockSize)
					parts = append(parts, crc.Alone(b.Blank[:step]))
					left -= step
				}
			default:
				t := b.StretchAt(at)
				sums := j.sumsOf(crc, t)
				for k := uint64(0); k < n; {
					from := at + k - t.First
					if from%(many*chip.BlockSize) == 0 && n-k >= many*chip.BlockSize {
						parts = append(parts, sums.blocks(crc, t, int(from), data[k:k+many*chip.BlockSize]))
						k += many * chip.BlockSize
						continue
					}
					step := min(chip.BlockSize-from%chip.BlockSize, n-k)
					parts = append(parts, sums.block(crc, t, int(from), data[k:k+step]))
					k += step
				}
			}
			if n > span.Last-at {
				break
			}
			at += n
		}
	}
	return parts
}

// many is how many blocks are known together.
const many = 64

// blocksSum is the CRC of many blocks, and when each had been changed last.
type blocksSum struct {
	stamps [many]uint64
	part   checksum.Part
}

// blockSums are the CRCs of a stretch's blocks, one by one and many together.
type blockSums struct {
	each     []blockSum
	together []blocksSum
}

// sumsOf returns what is known of a stretch.
func (j *judge) sumsOf(crc checksum.CRC, t *chip.Stretch) *blockSums {
	key := sumKey{t, crc}
	known := j.sums[key]
	if known == nil {
		known = &blockSums{make([]blockSum, len(t.Stamps)), make([]blocksSum, len(t.Stamps)/many+1)}
		j.sums[key] = known
	}
	return known
}

// blocks returns the CRC of many whole blocks.
func (s *blockSums) blocks(crc checksum.CRC, t *chip.Stretch, from int, data []byte) checksum.Part {
	first := from / chip.BlockSize
	k := &s.together[first/many]
	if stamps := [many]uint64(t.Stamps[first:]); k.part.Bytes == 0 || k.stamps != stamps {
		parts := make([]checksum.Part, many)
		for i := range parts {
			parts[i] = s.block(crc, t, from+i*chip.BlockSize, data[i*chip.BlockSize:(i+1)*chip.BlockSize])
		}
		k.stamps, k.part = stamps, crc.Follow(parts)
	}
	return k.part
}

// block returns the CRC of some of a block; that of a whole one may be known.
func (s *blockSums) block(crc checksum.CRC, t *chip.Stretch, from int, data []byte) checksum.Part {
	if len(data) < chip.BlockSize {
		return crc.Alone(data)
	}
	i := from / chip.BlockSize
	k := &s.each[i]
	if k.part.Bytes == 0 || k.stamp != t.Stamps[i] {
		k.stamp, k.part = t.Stamps[i], crc.Alone(data)
	}
	return k.part
}
