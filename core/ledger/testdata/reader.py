"""Reads a ledger that is not sealed from its file store, by what
docs/formats/ledger.md says and nothing else.

    python3 reader.py FOLDER      a ward's folder, which holds log/ and checkpoint/

Writes what is recorded as JSON: from the log alone, and from the newest
checkpoint with the log after it. Needs the zstd program.
"""
import hashlib
import json
import os
import subprocess
import sys


def unpack(body):
    return subprocess.run(["zstd", "-dc"], input=body, stdout=subprocess.PIPE, check=True).stdout


def read(path):
    with open(path, "rb") as f:
        body = f.read()
    if not body:
        return None  # blanked
    assert body[:1] == b"K", path
    return body[1:]


class State:
    def __init__(self):
        self.seq, self.hash = 0, ""
        self.records, self.open, self.intents = {}, {}, {}  # open: run -> scope; intents: (run, id) -> address

    def checkpoint(self, body):
        digest, rest = body.split(b"\n", 1)
        assert hashlib.sha256(rest).hexdigest() == digest.decode(), "the checkpoint's digest"
        line, frames = rest.split(b"\n", 1)
        head = json.loads(line)
        assert head["format"] == "kasbah.checkpoint/1"
        self.seq, self.hash = head["seq"], head["hash"]
        self.open = {r["run"]: r["begin"]["scope"] for r in head["open"] or []}
        self.intents = {(i["run"], i["intent"]["id"]): i["intent"]["address"] for i in head["intents"] or []}
        for i, size in enumerate(head["frames"] or []):
            frame, frames = frames[:size], frames[size:]
            if i % 2 == 1:
                for record in unpack(frame).splitlines():
                    r = json.loads(record)
                    self.records[r["address"]] = r
        assert not frames and len(self.records) == head["records"]

    def entry(self, seq, body):
        lines = [json.loads(line) for line in unpack(body).splitlines()]
        head = lines[0]
        assert head["format"] == "kasbah.entry/1" and head["seq"] == seq == self.seq + 1, seq
        assert head["prev"] == self.hash, "entry %d does not continue the one before" % seq
        self.seq, self.hash = seq, hashlib.sha256(body).hexdigest()
        for line in lines[1:]:
            self.line(head["run"], line["kind"], line[line["kind"]])

    def line(self, run, kind, is_):
        if kind == "begin":
            if run not in self.open and not any(meet(is_["scope"], other) for other in self.open.values()):
                self.open[run] = is_["scope"]
            return
        if kind == "break":
            self.open.pop(is_["run"], None)
            return
        if run not in self.open or kind != "end" and not within(self.open[run], kind, is_, self.records):
            return
        if kind == "intent":
            self.intents[run, is_["id"]] = is_["address"]
        elif kind == "result":
            of = (is_.get("run") or run, is_["intent"])
            if self.intents.get(of) != is_["address"] or is_["outcome"] == "unclear":
                return
            del self.intents[of]
            if is_.get("dropped"):
                self.records.pop(is_["address"], None)
            elif is_.get("record"):
                self.records[is_["address"]] = is_["record"]
        elif kind == "note":
            self.records.pop(is_.get("dropped"), None)
            if is_.get("record"):
                self.records[is_["record"]["address"]] = is_["record"]
        elif kind == "end":
            del self.open[run]


def meet(a, b):
    if a["whole"] or b["whole"]:
        return True
    lists = [(set(s.get("writes", [])), set(s.get("reads", []))) for s in (a, b)]
    (aw, ar), (bw, br) = lists
    return bool(aw & bw or aw & br or ar & bw)


def within(scope, kind, is_, records):
    if scope["whole"]:
        return True
    if kind == "note" and is_["what"] == "seen" and only_seen(is_.get("record"), scope, records):
        return True
    named = [is_.get("address"), is_.get("dropped") if kind == "note" else None]
    named += [(is_.get(k) or {}).get("address") for k in ("record", "plan")]
    named = [a for a in named if a]
    if kind == "note" and not named:
        return False
    return all(a in scope.get("writes", []) for a in named)


def only_seen(record, scope, records):
    if not record or record["address"] not in scope.get("reads", []) or record["address"] not in records:
        return False
    moves = ("live", "tag", "hidden")
    was = records[record["address"]]
    return {k: v for k, v in record.items() if k not in moves} == {k: v for k, v in was.items() if k not in moves}


def fold(folder, from_checkpoint):
    s = State()
    if from_checkpoint:
        names = sorted(os.listdir(os.path.join(folder, "checkpoint")))
        s.checkpoint(read(os.path.join(folder, "checkpoint", names[-1])))
    for name in sorted(os.listdir(os.path.join(folder, "log"))):
        if not name.startswith(".") and int(name) > s.seq:
            s.entry(int(name), read(os.path.join(folder, "log", name)))
    return {"seq": s.seq, "hash": s.hash, "open": sorted(s.open), "records": s.records}


folder = sys.argv[1]
out = {"log": fold(folder, False)}
if os.path.isdir(os.path.join(folder, "checkpoint")):
    out["checkpoint"] = fold(folder, True)
json.dump(out, sys.stdout, sort_keys=True)
