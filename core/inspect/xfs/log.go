package xfs

import (
	"errors"

	"bagaglio/core/disk"
)

// Facts of the journal ("Journaling Log"): it is of basic blocks, of which each begins with the number of the round in which it was written.
const (
	recordMagic               = 0xfeedbabe
	recordRound, recordLength = 4, 12
	recordOperations          = 40
	operationFlags            = 9    // in the header of an operation, behind its transaction, length and client
	isUnmount                 = 0x20 // of the only operation of the last record of one that was unmounted
	maxRecord                 = 2048 // basic blocks
)

// clean tells whether the last thing in the journal is that it was unmounted.
func (v *volume) clean() (bool, error) {
	if v.logStart == 0 {
		return false, errors.New("its journal lies on another disk")
	}
	start, err := v.at(uint64(v.logStart))
	if err != nil {
		return false, err
	}
	total := v.logBlocks * v.block / sectorSize
	if total <= 0 || start > v.size-total*sectorSize {
		return false, disk.Damaged("a journal of %d blocks", v.logBlocks)
	}
	block := func(n int64) ([]byte, error) { return v.read(start+n*sectorSize, sectorSize) }
	first, err := block(0)
	if err != nil {
		return false, err
	}
	round := roundOf(first)
	low, high := int64(0), total // the first block of another round lies behind low, and not behind high
	for high-low > 1 {
		middle := (low + high) / 2
		b, err := block(middle)
		if err != nil {
			return false, err
		}
		if roundOf(b) == round {
			low = middle
		} else {
			high = middle
		}
	}
	for at := high - 1; at >= max(0, high-maxRecord); at-- {
		b, err := block(at)
		if err != nil {
			return false, err
		}
		if be.Uint32(b) != recordMagic {
			continue
		}
		if be.Uint32(b[recordOperations:]) != 1 || be.Uint32(b[recordLength:]) > sectorSize || at+1 >= total {
			return false, nil
		}
		operation, err := block(at + 1)
		return err == nil && operation[operationFlags]&isUnmount != 0, err
	}
	return false, nil
}

// roundOf is that in which a basic block was written.
func roundOf(b []byte) uint32 {
	if be.Uint32(b) == recordMagic {
		return be.Uint32(b[recordRound:])
	}
	return be.Uint32(b)
}
