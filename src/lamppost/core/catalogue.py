"""Finding versions among many."""

from __future__ import annotations

from lamppost.core.manifest import Manifest


def matches(search: str, name: str, manifest: Manifest, pushed_by: str) -> bool:
    """Whether every word of a search is found: in the name, a tag (``season:winter``, or either half), a field, a metric, the notes, or in
    who packed or pushed it. Case does not count; a search without words finds everything.
    """
    story = manifest.story
    told = [name, manifest.name, pushed_by, story.by or "", story.notes, *story.metrics]
    told += [field.name for field in (*manifest.inputs, *(manifest.options or ()), *manifest.answers)]
    told += [f"{key}:{value}" for key, value in story.tags.items()]
    lowered = [text.lower() for text in told]
    return all(any(word in text for text in lowered) for word in search.lower().split())
