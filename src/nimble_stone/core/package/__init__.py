"""Reading packages: OVA archive, OVF descriptor, manifest, environment document. Bytes in, values
or located errors out.
"""
