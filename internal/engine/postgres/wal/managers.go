package wal

// Resource managers, from src/include/access/rmgrlist.h of PostgreSQL 15.
const (
	transaction = 1
	mapping     = 7 // of catalogs to their files
	heap2       = 9
	heap        = 10
	heapMask    = 0x70
	// of manager 0: an image of a page where only hints were set (XLOG_FPI_FOR_HINT in catalog/pg_control.h)
	hint = 0xA0
)

// Remaps reports whether a record gives catalogs other files.
func (r *Record) Remaps() bool { return r.Manager == mapping }

// Commits reports whether a record is the end of a transaction that was
// committed.
func (r *Record) Commits(number uint32) bool {
	return r.Manager == transaction && r.Info&heapMask == 0 && r.Transaction == number
}

// Writes reports whether a record may change what somebody reads. Locks of
// rows do not, nor does what VACUUM tidies up, or a reader in passing: pruning,
// freezing, marking as visible to all, the statistics in pg_class.
func (r *Record) Writes() bool {
	op := r.Info & heapMask
	switch r.Manager {
	case 0:
		return r.Info != hint
	case heap2:
		return op == 0x00 || op == 0x50 || op == 0x70 // rewriting, many inserts, a new command's number
	case heap:
		return op != 0x60 && op != 0x70 // locking, writing in place
	}
	return true
}
