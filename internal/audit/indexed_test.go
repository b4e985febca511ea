package audit

import (
	"context"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

// TestAnIndexThatHidesIsFound: what was taken from the index, put into it or changed there is found by a verification, though every entry is as it
// was written; one that was made over several starts, and by which entries were let go, is not.
func TestAnIndexThatHidesIsFound(t *testing.T) {
	ctx := context.Background()
	whole := func(r *Record, when string) {
		t.Helper()
		if _, err := r.Verify(ctx, Against{}); err != nil {
			t.Fatalf("%s: %v", when, err)
		}
	}
	run := func(r *Record, statement string) {
		t.Helper()
		if err := r.writer.Exec(statement).Error; err != nil {
			t.Fatal(err)
		}
	}
	r := opened(t, t.TempDir())
	defer func() { r.Close() }()
	random := rand.New(rand.NewPCG(17, 18))
	whole(r, "with nothing in it")
	for range 3 {
		indexedAfter(r, 300)
		before, err := indexedUpTo(r.reader)
		if err != nil {
			t.Fatal(err)
		}
		for upTo := before; upTo == before; { // until a segment more is there
			some(t, r, 100, random)
			if upTo, err = indexedUpTo(r.reader); err != nil {
				t.Fatal(err)
			}
		}
		whole(r, "while it grows")
		if err := r.Close(); err != nil {
			t.Fatal(err)
		}
		r = again(t, r)
		whole(r, "after another start")
	}
	for _, table := range []string{"audit_postings", "audit_days"} {
		run(r, "CREATE TEMP TABLE kept_"+table+" AS SELECT * FROM "+table)
	}
	for name, wrong := range map[string]string{
		"a row is missing":               "DELETE FROM audit_postings WHERE (day, key, up_to) IN (SELECT day, key, up_to FROM audit_postings LIMIT 1)",
		"a row is added":                 "INSERT INTO audit_postings VALUES (1, 'u nobody', (SELECT max(up_to) FROM audit_postings), x'01')",
		"a row is changed":               "UPDATE audit_postings SET blocks = x'01' WHERE key = 'u noor.haddad' AND up_to = (SELECT min(up_to) FROM audit_postings)",
		"all rows of the last are gone":  "DELETE FROM audit_postings WHERE up_to = (SELECT max(up_to) FROM audit_postings)",
		"all rows of the first are gone": "DELETE FROM audit_postings WHERE up_to = (SELECT min(up_to) FROM audit_postings)",
		"all rows are gone":              "DELETE FROM audit_postings",
		"a day is missing":               "DELETE FROM audit_days WHERE day = (SELECT min(day) FROM audit_days)",
		"a day ends too soon":            "UPDATE audit_days SET last = first WHERE day = (SELECT day FROM audit_days WHERE last > first LIMIT 1)",
	} {
		done := r.writer.Exec(wrong)
		if done.Error != nil || done.RowsAffected == 0 {
			t.Fatalf("%s: %d rows, %v", name, done.RowsAffected, done.Error)
		}
		if _, err := r.Verify(ctx, Against{}); err == nil || !strings.Contains(err.Error(), "the index of the record") {
			t.Errorf("%s: %v", name, err)
		}
		for _, table := range []string{"audit_postings", "audit_days"} {
			run(r, "DELETE FROM "+table)
			run(r, "INSERT INTO "+table+" SELECT * FROM kept_"+table)
		}
	}
	whole(r, "when all is as it was")
	if err := r.LetGo(ctx, began.Add(90*24*time.Hour)); err != nil {
		t.Fatal(err)
	}
	base, err := baseOf(r.reader)
	if err != nil || base.seq < 300 {
		t.Fatalf("let go up to %d: %v", base.seq, err)
	}
	whole(r, "after entries were let go")
	var left int64
	if err := r.reader.Raw("SELECT count(*) FROM audit_postings").Scan(&left).Error; err != nil || left == 0 {
		t.Fatalf("%d rows are left (%v)", left, err)
	}
	run(r, "UPDATE audit_postings SET blocks = x'01' WHERE up_to = (SELECT max(up_to) FROM audit_postings)")
	if _, err := r.Verify(ctx, Against{}); err == nil || !strings.Contains(err.Error(), "the index of the record") {
		t.Errorf("after entries were let go: %v", err)
	}
}
