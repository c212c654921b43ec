def _lookout(name, answers, facts, ttl):
    medina.record("name", name = name, kind = "A", values = answers, ttl = ttl)
    medina.record("facts", name = name, kind = "TXT", values = [json.encode(facts)], ttl = ttl)
    return name

lookout = kit(
    _lookout,
    inputs = {
        "name": kind.text(min_length = 3, matches = "^[a-z0-9.-]+$", help = "under which the light is looked up"),
        "answers": kind.list(kind.text, min_length = 1, help = "addresses that answer for it"),
        "facts": kind.map(kind.any, default = {}, help = "told under the same name"),
        "ttl": kind.int(default = 300, min = 10, max = 86400, help = "seconds that an answer may be kept"),
    },
    help = "makes one light known",
)
