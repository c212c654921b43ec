load("/common/coast.star", "owned", "zone_of")
load("kit:station", "station")

lights = input("lights", kind.map(kind.int(min = 0)), help = "lighthouse -> its number, never reused")
span = input("span", kind.cidr, default = "10.20.0.0/16", help = "addresses of the whole coast")
gauge_size = input("gauge_size", default = "small", one_of = ["tiny", "small", "medium", "large"])

coast = medina.network("coast", range = span, tags = owned())

# Each light has a station: a subnet, a gauge in it and the gauge's tape.
stations = {
    light: station(
        light,
        network = coast,
        range = cidr.slice(span, 24, number),
        zone = zone_of(number),
        size = gauge_size,
        image = "stone-1",
        tags = owned(light = light),
    )
    for light, number in lights.items()
}

publish("gauges", {light: s.address for light, s in stations.items()}, help = "address of each light's gauge")
