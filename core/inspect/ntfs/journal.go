package ntfs

import "bagaglio/core/disk"

// Facts of the journal ("$LogFile"): it begins with two pages that say how it was left.
const (
	journalRecord              = 2
	restartMark                = "RSTR"
	restartPage                = 4096
	atPageSize, atRestart      = 16, 24
	atClients, atRestartFlags  = 12, 14
	noClient                   = 0xffff
	isClean                    = 0x2
	smallestPage, largestPages = 512, 64 << 10
)

// played tells whether nothing is left in the journal: it was closed, or is empty, as other systems leave it.
func (v *volume) played() (bool, error) {
	attrs, err := v.attributes(journalRecord)
	if err != nil {
		return false, err
	}
	log, err := v.stream(attrs, ofData, "")
	if err != nil {
		return false, err
	}
	var latest uint64
	clean := true
	for page, off := int64(restartPage), int64(0); off <= page && off+page <= log.size; off += page {
		b := make([]byte, page)
		if err := v.readStream(b, log, off); err != nil {
			return false, err
		}
		if string(b[:4]) != restartMark { // it was never used
			continue
		}
		if off == 0 {
			if page = int64(le.Uint32(b[atPageSize:])); page < smallestPage || page > largestPages {
				return false, disk.Damaged("a journal with pages of %d bytes", page)
			}
			b = b[:min(int64(len(b)), page)]
		}
		if err := fixed(b); err != nil {
			return false, err
		}
		at := int(le.Uint16(b[atRestart:]))
		if at+atRestartFlags+2 > len(b) {
			return false, disk.Damaged("a journal whose state lies at %d", at)
		}
		area := b[at:]
		if lsn := le.Uint64(area); lsn >= latest {
			latest = lsn
			clean = le.Uint16(area[atClients:]) == noClient || le.Uint16(area[atRestartFlags:])&isClean != 0
		}
	}
	return clean, nil
}
