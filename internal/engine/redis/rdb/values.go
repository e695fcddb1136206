package rdb

import (
	"errors"
	"fmt"
)

// Types of values, and how each is read over.
const (
	typeString = iota
	typeList
	typeSet
	typeZSet
	typeHash
	typeZSetBinary
	typeModuleOld
	typeModule
	_
	typeZipmap
	typeListZiplist
	typeSetIntset
	typeZSetZiplist
	typeHashZiplist
	typeListQuicklist
	typeStream
	typeHashListpack
	typeZSetListpack
	typeListQuicklist2
	typeStream2
	typeSetListpack
	typeStream3
	typeHash22 // of Valkey with times, of a candidate of Redis
	typeHashListpackRC
	typeHashTimes
	typeHashListpackTimes
)

// skip reads over a value.
func (r *reader) skip(kind byte) error {
	switch kind {
	case typeString, typeZipmap, typeListZiplist, typeSetIntset, typeZSetZiplist, typeHashZiplist, typeHashListpack,
		typeZSetListpack, typeSetListpack, typeHashListpackRC:
		return r.texts(1)
	case typeList, typeSet, typeListQuicklist:
		return r.each(func() error { return r.texts(1) })
	case typeHash:
		return r.each(func() error { return r.texts(2) })
	case typeZSet:
		return r.each(func() error { return r.scored(r.oldDouble) })
	case typeZSetBinary:
		return r.each(func() error { return r.scored(func() error { return r.bytes(8) }) })
	case typeListQuicklist2:
		return r.each(func() error { return r.after(r.lengths(1), func() error { return r.texts(1) }) })
	case typeHash22:
		if r.valkey { // field, value, time
			return r.each(func() error { return r.after(r.texts(2), func() error { return r.bytes(8) }) })
		}
		return r.each(func() error { return r.after(r.lengths(1), func() error { return r.texts(2) }) })
	case typeHashTimes:
		return r.after(r.bytes(8), func() error {
			return r.each(func() error { return r.after(r.lengths(1), func() error { return r.texts(2) }) })
		})
	case typeHashListpackTimes:
		return r.after(r.bytes(8), func() error { return r.texts(1) })
	case typeStream, typeStream2, typeStream3:
		return r.stream(kind)
	case typeModule:
		return r.after(r.lengths(1), r.module)
	case typeModuleOld:
		return errors.New("a value of a module that keeps it in the old way is not read")
	}
	return fmt.Errorf("a value of the unknown kind %d: the file is damaged, or newer than this Hemzo reads", kind)
}

func (*reader) after(err error, next func() error) error {
	if err != nil {
		return err
	}
	return next()
}

func (r *reader) texts(n int) error {
	for range n {
		if _, err := r.text(); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) bytes(n int) error {
	_, err := r.take(n)
	return err
}

// each reads so many elements as a length before them says.
func (r *reader) each(element func() error) error {
	n, err := r.length()
	for ; err == nil && n > 0; n-- {
		err = element()
	}
	return err
}

func (r *reader) scored(score func() error) error { return r.after(r.texts(1), score) }

// oldDouble is digits after a byte with their number, or one of three values without.
func (r *reader) oldDouble() error {
	n, err := r.byte()
	if err != nil || n >= 253 {
		return err
	}
	return r.bytes(int(n))
}

// stream is a stream with its groups, their entries that nobody has acknowledged, and their
// consumers.
func (r *reader) stream(kind byte) error {
	if err := r.each(func() error { return r.texts(2) }); err != nil {
		return err
	}
	about := 3 // how long it is, its last entry
	if kind >= typeStream2 {
		about += 5 // its first, the highest that was removed, how many there have been
	}
	if err := r.lengths(about); err != nil {
		return err
	}
	return r.each(func() error {
		numbers := 2 // the last entry that was given out
		if kind >= typeStream2 {
			numbers++
		}
		if err := r.after(r.texts(1), func() error { return r.lengths(numbers) }); err != nil {
			return err
		}
		pending := func() error { return r.after(r.bytes(16), func() error { return r.after(r.bytes(8), r.one) }) }
		if err := r.each(pending); err != nil {
			return err
		}
		times := 8
		if kind >= typeStream3 {
			times += 8
		}
		return r.each(func() error {
			return r.after(r.texts(1), func() error {
				return r.after(r.bytes(times), func() error { return r.each(func() error { return r.bytes(16) }) })
			})
		})
	})
}

func (r *reader) one() error { return r.lengths(1) }

// module is what a module writes: parts, each after what it is.
func (r *reader) module() error {
	for {
		op, err := r.length()
		if err != nil {
			return err
		}
		switch op {
		case 0:
			return nil
		case 1, 2:
			err = r.lengths(1)
		case 3:
			err = r.bytes(4)
		case 4:
			err = r.bytes(8)
		case 5:
			err = r.texts(1)
		default:
			err = fmt.Errorf("a module's value has the unknown part %d", op)
		}
		if err != nil {
			return err
		}
	}
}
