load("/common/coast.star", "owned")

lights = input("lights", kind.map(kind.int(min = 0)), help = "lighthouse -> its number, never reused")
keep = input("keep", kind.record({"pages": kind.int(min = 10), "versions": kind.bool(default = True)}), default = {"pages": 50})

lasting = care(guard = env == "live")

# Where the readings are kept for good, and what each light writes.
medina.bucket("readings", versions = keep["versions"], tags = owned(), care = lasting)
for light in lights:
    medina.bucket("log-" + light, tags = owned(light = light), care = lasting)

# The scribe copies from the gauges to the logs.
gauges = published("shore", "gauges")
scribe = medina.machine(
    "scribe",
    subnet = published("signal", "deck"),
    size = "tiny",
    image = "stone-1",
    notes = "http://" + ",http://".join([gauges[light] for light in lights]),
    tags = owned(),
)
medina.disk("pages", machine = scribe, gigabytes = keep["pages"], tags = owned(), care = lasting)
for light, number in lights.items():
    medina.record(
        "tide-" + light,
        name = "tide-%d.%s.lantern-coast.example" % (number, env),
        kind = "CNAME",
        values = ["scribe.%s.lantern-coast.example" % env],
    )

notices = medina.bucket(
    "notices",
    public = True,
    tags = owned(),
    care = care(guard = env == "live", excuse = {"private-buckets": "notices are read by everyone, until 2031-12-31"}),
)
publish("notices", notices.url, help = "where the public notices are read")
