lights = input("lights", kind.map(kind.int), help = "lighthouse -> its number, never reused")
span = input("span", kind.cidr, default = "10.20.0.0/16", help = "addresses of the whole coast")

coast = medina.network("coast", range = span)

quays = {
    light: medina.subnet("quay-" + light, network = coast, range = cidr.slice(span, 24, n))
    for light, n in lights.items()
}

gauges = {
    light: medina.machine(
        "gauge-" + light,
        subnet = quay,
        size = "small",
        image = "stone-1",
        notes = "http://%s/readings" % quay.gateway,
        tags = {"owner": "keepers"},
    )
    for light, quay in quays.items()
}

medina.bucket("readings", versions = True)

publish("gauges", {light: g.address for light, g in gauges.items()}, help = "address of each light's gauge")
