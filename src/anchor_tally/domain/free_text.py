"""Replacements for free text in exports: numbered words, never what was typed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

from .protocol import BY_KEY, OWN
from .records import Reading, Setting
from .snapshot import Snapshot
from .stations import LANDMARK, landmark_of

EXCLUDED_NOTE, SIMULATED_NOTE = "excluded", "simulated reading"


@dataclass(frozen=True, slots=True)
class FreeText:
    """Replacements for the free text of one study.

    Attributes
    ----------
    keys : mapping of str to str
        Key of each condition of the study's own, which is made of its question, to a numbered key.
    landmarks : mapping of str to str
        The study's own words for where a site lies, to numbered ones.
    """

    keys: Mapping[str, str]
    landmarks: Mapping[str, str]

    @classmethod
    def of(cls, keys: Iterable[str], landmarks: Iterable[str]) -> FreeText:
        """Number the keys that are not in the registry, and the landmarks, alphabetically."""
        own = sorted({k for k in keys if k not in BY_KEY})
        words = sorted({w for w in landmarks if w})
        return cls(
            MappingProxyType({k: f"{OWN}condition_{n}" for n, k in enumerate(own, start=1)}),
            MappingProxyType({w: f"own landmark {n}" for n, w in enumerate(words, start=1)}),
        )

    def key(self, key: str) -> str:
        """Return the key of a condition as it may leave the file."""
        return self.keys.get(key, key)

    def setting(self, label: str) -> str:
        """Return the label of a setting with its landmark replaced."""
        words = landmark_of(label)
        return (
            f"{label.partition(LANDMARK)[0]}{LANDMARK}{self.landmarks[words]}"
            if words in self.landmarks
            else label
        )

    def answers(self, answers: Mapping[str, str]) -> dict[str, str]:
        """Return the conditions of a visit as they may be exported.

        Answers of yes and no, with replaced keys.
        """
        return {self.key(k): v for k, v in answers.items() if v in ("yes", "no")}

    def reading(self, r: Reading) -> Reading:
        """Return a reading without its remark, reason, source and landmark."""
        note = EXCLUDED_NOTE if r.status == "excluded" else ""
        return replace(r, note=note, source="", setting=self.setting(r.setting))

    def snapshot(self, s: Snapshot) -> Snapshot:
        """Return a snapshot whose labels of settings and lists of landmarks hold no free text."""
        if not self.landmarks:
            return s
        settings: dict[int, Setting] = {
            i: replace(x, label=self.setting(x.label)) for i, x in s.settings.items()
        }
        mixed = {i: tuple(map(self._listed, sites)) for i, sites in s.landmarks.items()}
        catalogue = replace(s.catalogue, settings=MappingProxyType(settings))
        return replace(s, catalogue=catalogue, landmarks=MappingProxyType(mixed))

    def _listed(self, site: str) -> str:
        """A site with the places in brackets at which it was taken: "triceps (a, b)"."""
        name, _, places = site.partition(" (")
        known = sorted(self.landmarks, key=len, reverse=True)
        for words in known:
            places = places.replace(words, self.landmarks[words])
        return f"{name} ({places}"
