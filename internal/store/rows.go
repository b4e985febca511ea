package store

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// What a line of rows begins with.
const (
	rowRecord = "record"
	rowEntry  = "entry"
)

// Rows writes all records, and then the entries of their long lists, a row a line: what it is, its columns, and tabs between, which none of them holds.
// They are in the order of their keys, so that one policy is always the same bytes. They are those of the moment at which it calls begun, once; it gives
// the revision that left them so.
func (s *Store) Rows(ctx context.Context, to io.Writer, begun func()) (Revision, error) {
	var last Revision
	out := bufio.NewWriterSize(to, 1<<20)
	err := s.atRevision(ctx, &last, func(tx *gorm.DB) error {
		begun()
		line := func(columns ...string) {
			for i, c := range columns {
				if i > 0 {
					out.WriteByte('\t') // an error stays, and is told by Flush
				}
				out.WriteString(c)
			}
			out.WriteByte('\n')
		}
		err := eachRow(tx, "SELECT type, id, body FROM records ORDER BY type, id", func(row [4]string) { line(rowRecord, row[0], row[1], row[2]) }, 3)
		if err == nil {
			err = eachRow(tx, "SELECT type, id, of, entry FROM entries ORDER BY type, id, of, entry", func(row [4]string) { line(rowEntry, row[0], row[1], row[2], row[3]) }, 4)
		}
		return database.Damaged(err)
	})
	if err = errors.Join(err, out.Flush()); err != nil {
		return last, fmt.Errorf("write the rows of the policy: %w", err)
	}
	return last, nil
}

// ErrRows is that rows are not what [Store.Rows] has written.
var ErrRows = errors.New("the rows of the policy cannot be read")

// ReadRows reads the policy that [Store.Rows] has written, and the hash over its rows, which is the State of its revision. The error is [ErrRows] where
// they are something else.
func ReadRows(from io.Reader) (*policy.Policy, []byte, error) {
	in := bufio.NewReaderSize(from, 1<<20)
	d, entries := newDecoding(), newLists()
	var sum database.Sum
	for n := 1; ; n++ {
		line, err := in.ReadString('\n')
		if err == io.EOF && line == "" {
			break
		}
		if err == nil {
			err = readRow(strings.TrimSuffix(line, "\n"), d, entries, &sum)
		}
		if err != nil {
			_, _, ended := d.end()
			return nil, nil, fmt.Errorf("%w: line %d: %w", ErrRows, n, errors.Join(err, ended))
		}
	}
	records, total, err := d.end()
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrRows, err)
	}
	entries.into(records)
	sum.Join(total)
	b := policy.NewBuilder(nil).Kept()
	for i, r := range records {
		b.Add(r)
		records[i] = nil // the policy keeps its own
	}
	p, err := b.Policy()
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrRows, err)
	}
	return p, bytes.Clone(sum.Bytes()), nil
}

func readRow(line string, d *decoding, entries *lists, sum *database.Sum) error {
	what, rest, _ := strings.Cut(line, "\t")
	columns := strings.SplitN(rest, "\t", 4)
	switch {
	case what == rowRecord && len(columns) == 3:
		d.add(record{columns[0], columns[1], columns[2]})
	case what == rowEntry && len(columns) == 4:
		e := entry{columns[0], columns[1], columns[2], columns[3]}
		sum.Add(e.hash())
		return entries.add(&e)
	default:
		return errors.New("it is no row")
	}
	return nil
}
