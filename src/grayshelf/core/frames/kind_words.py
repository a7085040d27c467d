"""The words by which people of other tongues call the kinds of frame.

Loans from English in their own letters are words of this trade alone, so they count wherever they stand in a name. Everyday
words ('noir', 'planos') count where nothing else stands beside them: as what a folder is called, or as a header's value.
Common practice, from memory, no source.
"""

from __future__ import annotations

import re
import unicodedata

#: Longest first, as 'dark flat' has both of the others in it. Of each Chinese sign there are a simplified and a full form.
_OF_THE_TRADE = (
    (
        r"フラット[-_ ・]?ダーク|ダーク[-_ ・]?フラット|暗[-_ ]?平[场場]|平[场場][-_ ]?暗[场場]|플랫[-_ ]?다크|다크[-_ ]?플랫",
        "darkflat",
    ),
    (r"マスター?[-_ ]?|마스터[-_ ]?", "master"),
    (r"ダーク|暗[场場帧幀]|다크|(?<![а-яё])дарк(?:и|ов)?(?![а-яё])", "dark"),
    (r"フラット|平[场場帧幀]|플랫|(?<![а-яё])фл[еэ]т(?:ы|ов)?(?![а-яё])", "flat"),
    (r"バイアス|偏[置压壓][场場帧幀]?|바이어스|(?<![а-яё])биас(?:ы|ов)?(?![а-яё])", "bias"),
    (r"(?<![ァ-ヶー])ライト|亮[场場帧幀]|(?<![가-힣])라이트|(?<![а-яё])лайт(?:ы|ов)?(?![а-яё])", "light"),
)
_EVERYDAY = (
    (r"(?:noirs?|darks?)[-_ ]de[-_ ](?:plu|flats?)", "darkflat"),
    (r"noirs?|dunkelbild(?:er)?|dunkelfeld(?:er)?|oscur[oa]s?|escuros?", "dark"),
    (r"plu|flachbild(?:er)?|weißbild(?:er)?|weissbild(?:er)?|planos?", "flat"),
    (r"biais", "bias"),
    (r"brutes?|luz|luces|luzes", "light"),
)
_OTHER_LETTERS = re.compile("[^\x00-\x7f]")


def in_english(name: str) -> str:
    """The name in small letters, with what the trade is called elsewhere in English; letters and their marks are one sign
    each, also where a disk keeps them apart."""
    plain = name.lower()
    if not _OTHER_LETTERS.search(plain):
        return plain
    plain = unicodedata.normalize("NFC", plain)
    for words, english in _OF_THE_TRADE:
        # Set apart: between signs of these scripts there are no spaces.
        plain = re.sub(words, "master" if english == "master" else f" {english} ", plain)
    return plain


def everyday_in_english(name: str) -> str:
    """The same, and everyday words for a kind too: of a name that has nothing else in it."""
    plain = in_english(name)
    for words, english in _EVERYDAY:
        plain = re.sub(rf"(?<![^\W\d_])(?:{words})(?![^\W\d_])", english, plain)
    return plain
