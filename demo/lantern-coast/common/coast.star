# What every ward of the coast has in common.

ZONES = ["north-1", "north-2", "north-3"]

def zone_of(number):
    """Spreads the lights over the zones by their number."""
    return ZONES[number % len(ZONES)]

def owned(**more):
    """The tags of everything that the keepers own."""
    tags = {"owner": "keepers", "coast": "lantern"}
    tags.update(more)
    return tags
