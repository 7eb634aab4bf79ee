"""What a model has learned, as far as packing measured it: how good it is and where, and which inputs its answers depend on.

It knows the documents of a package and the figures of quality, and neither models nor services.
"""
