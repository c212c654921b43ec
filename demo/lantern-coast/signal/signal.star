lights = input("lights", kind.map(kind.int), help = "lighthouse -> its number, never reused")
domain = input("domain", default = "lantern-coast.example")

mast = medina.network("mast", range = "10.30.0.0/20")
deck = medina.subnet("deck", network = mast, range = "10.30.0.0/26")

relay = medina.machine("relay", subnet = deck, size = "tiny", image = "stone-1")

# One name for each light, answered by the relay once its address is known.
for light in lights:
    medina.record(
        light,
        name = "{}.{}.{}".format(light, env, domain),
        kind = "A",
        values = [relay.address],
        ttl = 60,
    )

medina.record(
    "about",
    name = "about.%s.%s" % (env, domain),
    kind = "TXT",
    values = [json.encode({"relay": relay.address, "lights": len(lights)})],
)

publish("relay", relay.address)
