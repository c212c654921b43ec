package ledger

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"kasbah/core/seal"
	"kasbah/core/store"
)

// Pruned says which entries a run has blanked, and what they were: an object under the
// key pruned/<from> holds the SHA-256 of the stored bytes of each, 32 bytes after 32 bytes.
// So a machine that has seen one of them still finds out whether this is the log that held
// it.
type Pruned struct {
	From   int64  `json:"from"`
	To     int64  `json:"to"`
	Digest string `json:"digest"` // SHA-256 of these hashes, in hexadecimal
}

func (l *Ledger) prunedKey(from int64) string { return fmt.Sprintf("%spruned/%010d", l.prefix, from) }

// prunedHash is the hash that a pruned entry had; "" where nothing proves it.
func (l *Ledger) prunedHash(ctx context.Context, s *State, seq int64) (string, error) {
	for _, p := range s.Pruned {
		if seq < p.From || seq > p.To {
			continue
		}
		body, err := l.store.Get(ctx, l.prunedKey(p.From))
		if errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrBlank) {
			return "", nil
		}
		if err != nil {
			return "", err
		}
		if hash(body) != p.Digest || int64(len(body)) != (p.To-p.From+1)*sha256.Size {
			return "", &damageError{l.Ward, fmt.Sprintf("list of the entries from %d to %d that were pruned", p.From,
				p.To), errors.New("it is not what was noted")}
		}
		at := (seq - p.From) * sha256.Size
		return hex.EncodeToString(body[at : at+sha256.Size]), nil
	}
	return "", nil
}

// Prune takes the bodies of the oldest entries away and keeps so many of the
// newest. It goes no further than the older of the two checkpoints, so that the
// state can be had without the newest one. It reports up to which entry the log
// is blank now; 0 when nothing was.
func (l *Ledger) Prune(ctx context.Context, keep int64, o BeginOptions) (upTo int64, err error) {
	keys, err := l.keys(ctx, l.prefix+"checkpoint/", "")
	if err != nil || len(keys) < 2 {
		return 0, err
	}
	older, err := seqOf(keys[len(keys)-2])
	if err != nil {
		return 0, err
	}
	r, err := l.Begin(ctx, o)
	if err != nil {
		return 0, err
	}
	upTo = min(older, r.state.Seq-keep)
	blanked := 0
	if err = r.noteHashes(ctx, upTo); err == nil {
		blanked, err = r.blank(ctx, upTo)
	}
	if s, ok := l.store.(store.Sweeper); ok && err == nil {
		err = s.Sweep(ctx, l.prefix)
	}
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	err = errors.Join(err, r.End(ctx, End{Outcome: outcome, Counts: map[string]int{"blanked": blanked}}))
	return max(0, upTo), err
}

// noteHashes notes what the entries were that are about to be blanked.
func (r *Run) noteHashes(ctx context.Context, upTo int64) error {
	p := Pruned{From: 1, To: upTo}
	if known := r.State().Pruned; len(known) > 0 {
		p.From = known[len(known)-1].To + 1
	}
	var hashes []byte
	for seq := p.From; seq <= upTo; seq++ {
		body, err := r.l.store.Get(ctx, r.l.logKey(seq))
		if errors.Is(err, store.ErrBlank) && len(hashes) == 0 { // an earlier version has pruned it, and left nothing
			p.From = seq + 1
			continue
		}
		if err != nil {
			return err
		}
		sum := sha256.Sum256(body)
		hashes = append(hashes, sum[:]...)
	}
	if len(hashes) == 0 {
		return nil
	}
	p.Digest = hash(hashes)
	won, err := r.l.put(ctx, r.l.prunedKey(p.From), hashes)
	if err != nil {
		return err
	}
	if !won { // a run that died behind it has left one that goes less far
		if err := r.l.store.Delete(ctx, r.l.prunedKey(p.From)); err != nil {
			return err
		}
		if won, err = r.l.put(ctx, r.l.prunedKey(p.From), hashes); err != nil || !won {
			return errors.Join(errors.New("the list of what is pruned could not be written"), err)
		}
	}
	return r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "pruned", Pruned: &p}})
}

// blank takes the bodies away, and counts them.
func (r *Run) blank(ctx context.Context, upTo int64) (blanked int, err error) {
	for seq := int64(1); seq <= upTo; seq++ {
		if err := r.MayCall(ctx); err != nil {
			return blanked, err
		}
		key := r.l.logKey(seq)
		if _, err := r.l.store.Get(ctx, key); errors.Is(err, store.ErrBlank) {
			continue
		} else if err != nil {
			return blanked, err
		}
		if err := r.l.store.Blank(ctx, key); err != nil {
			return blanked, err
		}
		blanked++
	}
	return blanked, nil
}

// provable is the state from which on every entry can be read here, at a checkpoint when the
// log before it was pruned or is sealed to others, else an empty one.
func (l *Ledger) provable(ctx context.Context, checkpoints []string) (*State, error) {
	_, _, err := l.entry(ctx, l.logKey(1), nil)
	if !errors.Is(err, store.ErrBlank) && !errors.Is(err, seal.ErrNoIdentity) {
		return NewState(), nil
	}
	if len(checkpoints) == 0 {
		return nil, &damageError{l.Ward, "entry 1", fmt.Errorf("nothing but a checkpoint could stand for it, and "+
			"there is none: %w", err)}
	}
	for i, key := range checkpoints {
		s, err := l.readCheckpoint(ctx, key)
		switch {
		case errors.Is(err, seal.ErrNoIdentity) && i+1 < len(checkpoints):
			continue
		case errors.Is(err, seal.ErrClear):
			return nil, l.damage("checkpoint", err)
		}
		return s, err
	}
	return nil, nil // not reached: the last one returns
}
