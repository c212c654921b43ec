load("/common/coast.star", "owned")
load("kit:lookout", "lookout")

lights = input("lights", kind.map(kind.int(min = 0)), help = "lighthouse -> its number, never reused")
domain = input("domain", kind.text, default = "lantern-coast.example", help = "what every name ends in")

gauges = published("shore", "gauges")

mast = medina.network("mast", range = "10.30.0.0/20", tags = owned())
deck = medina.subnet("deck", network = mast, range = "10.30.0.0/26")
relay = medina.machine("relay", subnet = deck, size = "tiny", image = "stone-1", tags = owned())

# One name for each light, answered by the relay once its address is known.
for light, number in lights.items():
    lookout(
        light,
        name = "{}.{}.{}".format(light, env, domain),
        answers = [relay.address],
        facts = {"number": number, "gauge": gauges[light]},
        ttl = 60,
    )

medina.record(
    "about",
    name = "about.%s.%s" % (env, domain),
    kind = "TXT",
    values = [json.encode({"relay": relay.address, "lights": len(lights)})],
)

publish("relay", relay.address, help = "address of the relay")
publish("deck", deck.id, help = "the subnet of the relay, with room for more")
