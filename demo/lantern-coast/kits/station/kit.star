def _station(network, range, zone, size, image, tape, tags):
    quay = medina.subnet("quay", network = network, range = range, zone = zone)
    gauge = medina.machine(
        "gauge",
        subnet = quay,
        size = size,
        image = image,
        notes = "http://%s/readings" % quay.gateway,
        tags = tags,
        care = care(leave = ["tags.seen"]),
    )
    medina.disk("tape", machine = gauge, zone = zone, gigabytes = tape, tags = tags)
    return struct(address = gauge.address, quay = quay)

station = kit(
    _station,
    inputs = {
        "network": kind.handle("medina.network"),
        "range": kind.cidr(help = "addresses of the station, inside the network's"),
        "zone": kind.text(default = "north-1", help = "where its machine and disk stand"),
        "size": kind.text(default = "small", one_of = ["tiny", "small", "medium", "large"], help = "of the gauge"),
        "image": kind.text(default = "stone-1", help = "what the gauge starts from"),
        "tape": kind.int(default = 20, min = 1, max = 500, help = "gigabytes of the gauge's disk"),
        "tags": kind.map(kind.text, default = {}, help = "for all that can carry some"),
    },
    help = "opens the station of one light",
)
