"""A driver for files in a folder, in Python's standard library alone.

    [drivers.local]
    kind   = "process"
    run    = ["python3", "drivers/folder.py"]
    folder = "out"

docs/formats/driver.md describes what is said here. What it prints to standard
error is its log.
"""
import hashlib
import json
import os
import sys
import tempfile

TYPES = {
    "file": {
        "type": "object",
        "description": "A text file in the folder.",
        "x-kasbah": {"id": "id", "tags": True, "identify": ["path"], "order": ["path", "text"]},
        "required": ["path"],
        "properties": {
            "path": {"type": "string", "description": "where it lies, below the folder", "pattern": "^[A-Za-z0-9_-][A-Za-z0-9._/-]*$", "x-kasbah": {"fixed": True}},
            "text": {"type": "string", "description": "what it holds", "default": "", "x-kasbah": {"default-on-absence": True}},
            "id": {"type": "string", "readOnly": True},
            "bytes": {"type": "integer", "description": "how long it is", "readOnly": True},
        },
    }
}


class Refusal(Exception):
    def __init__(self, code, message, **data):
        self.error = {"code": code, "message": message, "data": data}


def gone():
    return Refusal(-32001, "there is no such file")


def refused(message, path=""):
    return Refusal(-32003, message, problems=[{"path": path, "message": message}])


def filled(v, made):
    """A value with what earlier calls would make in its place."""
    if isinstance(v, list):
        return [filled(x, made) for x in v]
    if not isinstance(v, dict):
        return v
    if "$call" in v:
        return (made[v["$call"]] or {})[v["path"].lstrip("/")]
    if "$text" in v:
        return "".join(str(filled(x, made)) for x in v["$text"])
    return {k: filled(x, made) for k, x in v.items()}


class Folder:
    root = None

    def hello(self, p):
        if "kasbah.driver/1" not in p["protocols"]:
            raise refused("this program speaks kasbah.driver/1")
        self.root = os.path.realpath(p["settings"].get("folder", "out"))
        if p["settings"].get("noisy"):
            print("this is the folder speaking", file=sys.stderr)
        os.makedirs(self.root, exist_ok=True)
        return {"protocol": "kasbah.driver/1", "name": "folder", "parallel": 1, "offers": ["vet", "rehearse"]}

    def describe(self, p):
        return {"version": "1", "types": TYPES}

    def place(self, id):
        path = os.path.realpath(os.path.join(self.root, id))
        if not path.startswith(self.root + os.sep):
            raise refused("it lies outside of the folder", "path")
        return path

    def look(self, id):
        try:
            with open(self.place(id), "rb") as f:
                body = f.read()
        except (FileNotFoundError, IsADirectoryError, NotADirectoryError):
            raise gone()
        tag = hashlib.sha256(body).hexdigest()
        return {"id": id, "tag": tag, "attributes": {"id": id, "path": id, "text": body.decode(), "bytes": len(body)}}

    def write(self, id, text):
        path = self.place(id)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        fd, temp = tempfile.mkstemp(dir=os.path.dirname(path), prefix=".")
        with os.fdopen(fd, "wb") as f:
            f.write(text.encode())
        os.replace(temp, path)
        return self.look(id)

    def check(self, p):
        if p["type"] not in TYPES:
            raise refused("there is no type " + p["type"])
        for name in list(p.get("inputs", {})) + list(p.get("to", {})):
            if name not in ("path", "text"):
                raise refused("there is no such attribute", name)

    def seen(self, p):
        is_ = self.look(p["id"])
        if p.get("tag") and p["tag"] != is_["tag"]:
            raise Refusal(-32002, "it was changed in between")
        return is_

    def read(self, p):
        return self.look(p["id"])

    def list(self, p):
        ids = []
        for folder, _, names in os.walk(self.root):
            ids += [os.path.relpath(os.path.join(folder, n), self.root) for n in names if not n.startswith(".")]
        ids = sorted(i for i in ids if i > p.get("after", ""))
        things = []
        for id in ids[:100]:
            try:
                things.append(self.look(id))
            except Refusal:
                pass  # it went meanwhile
        return {"things": things, "next": ids[99] if len(ids) > 100 else ""}

    def vet(self, p):
        path = p["inputs"].get("path", "")
        try:
            self.place(path)
        except Refusal as e:
            return e.error["data"]
        if os.path.isdir(os.path.join(self.root, path)):
            return {"problems": [{"path": "path", "message": "it is a folder"}]}
        return {"problems": []}

    def rehearse(self, p):
        there, made, results = {}, [], []
        for call in p["calls"]:
            made.append(None)
            try:
                inputs = filled(call.get("inputs", {}), made)
            except KeyError:
                results.append({"tried": False})
                continue
            problems = []
            if call["do"] == "create":
                path = inputs.get("path", "")
                problems = self.vet({"inputs": inputs})["problems"]
                if not problems and there.get(path, os.path.exists(self.place(path))):
                    problems = [{"path": "path", "message": "there is such a file already"}]
                if not problems:
                    there[path], made[-1] = True, {"id": path, **inputs}
            elif call["do"] == "delete":
                there[call["id"]] = False
            results.append({"tried": True, "problems": problems})
        return {"results": results}

    def create(self, p):
        id = p["inputs"].get("path", "")
        if os.path.exists(self.place(id)):
            raise refused("there is such a file already", "path")
        return self.write(id, p["inputs"].get("text", ""))

    def update(self, p):
        is_ = self.seen(p)
        return self.write(p["id"], p["to"].get("text", is_["attributes"]["text"]))

    def delete(self, p):
        self.seen(p)
        os.remove(self.place(p["id"]))


def receive():
    length = None
    while True:
        line = sys.stdin.buffer.readline()
        if not line:
            return None
        if not line.strip():
            break
        name, _, is_ = line.partition(b":")
        if name.lower() == b"content-length":
            length = int(is_)
    return json.loads(sys.stdin.buffer.read(length))


def send(message):
    body = json.dumps({"jsonrpc": "2.0", **message}).encode()
    sys.stdout.buffer.write(b"Content-Length: %d\r\n\r\n" % len(body) + body)
    sys.stdout.buffer.flush()


folder = Folder()
while (asked := receive()) is not None:
    method, params = asked["method"], asked.get("params") or {}
    if "id" not in asked:
        continue  # such as cancel: everything here is done at once
    try:
        if method not in ("hello", "describe", "read", "list", "create", "update", "delete", "vet", "rehearse"):
            raise Refusal(-32601, "there is no " + method)
        if "type" in params:
            folder.check(params)
        send({"id": asked["id"], "result": getattr(folder, method)(params)})
    except Refusal as e:
        send({"id": asked["id"], "error": e.error})
    except Exception as e:
        print(method, "failed:", e, file=sys.stderr)
        send({"id": asked["id"], "error": {"code": -32603, "message": str(e)}})
