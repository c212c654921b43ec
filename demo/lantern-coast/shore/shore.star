load("lights.star", "owned", "zone_of")

lights = input("lights", kind.map(kind.int), help = "lighthouse -> its number, never reused")
span = input("span", kind.cidr, default = "10.20.0.0/16", help = "addresses of the whole coast")
gauge_size = input("gauge_size", default = "small", one_of = ["tiny", "small", "medium", "large"])

coast = medina.network("coast", range = span, tags = owned())

quays = {
    light: medina.subnet(
        "quay-" + light,
        network = coast,
        range = cidr.slice(span, 24, number),
        zone = zone_of(number),
    )
    for light, number in lights.items()
}

gauges = {
    light: medina.machine(
        "gauge-" + light,
        subnet = quay,
        size = gauge_size,
        image = "stone-1",
        notes = "http://%s/readings" % quay.gateway,
        tags = owned(light = light),
        care = care(leave = ["tags.seen"]),
    )
    for light, quay in quays.items()
}

for light, number in lights.items():
    medina.disk(
        "tape-" + light,
        machine = gauges[light],
        zone = zone_of(number),
        gigabytes = 20,
    )

publish("gauges", {light: gauge.address for light, gauge in gauges.items()}, help = "address of each light's gauge")
