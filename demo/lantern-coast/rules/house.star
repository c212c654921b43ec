# The house rules of the coast.

def private(r):
    if r.type == "medina.bucket" and r.inputs.public:
        return "a bucket on this coast is not public"

def owned(r):
    if r.type in ["medina.machine", "medina.disk", "medina.bucket"] and "owner" not in (r.inputs.tags or {}):
        return "nobody owns it: it has no tag owner"

def lasting(r):
    if env == "live" and r.type == "medina.bucket" and not r.guarded:
        return "what is kept for good is guarded in live"

def plain_notes(r):
    if r.type == "medina.machine" and r.inputs.notes and not r.inputs.notes.startswith("http"):
        return "notes lead to readings, and nothing else"

def calm(p):
    if p.cost.change > 150:
        return "grows by %s a month, which is more than 150" % p.cost.change

rule("private-buckets", each = private, at = ["declared", "proposed", "live"], level = "block", help = "leave public out, or excuse it with a reason and an end")
rule("owned", each = owned, level = "warn", help = "tags = owned() of /common/coast.star")
rule("lasting", each = lasting, level = "block", help = "care = care(guard = True)")
rule("plain-notes", each = plain_notes, at = ["proposed", "live"], level = "warn")
rule("calm-budget", whole = calm, at = ["proposed"], level = "warn", help = "ask the keepers' meeting first")
