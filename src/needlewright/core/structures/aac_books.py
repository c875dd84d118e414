"""The Huffman codes of AAC (ISO/IEC 14496-3:2019, 4.A.1): scale factors and spectral books 1 to 11.

Kept as the standard lists them, in the order of the index: the length of each code as a letter (a:
1 bit), and all codes one behind another as bits.
"""

from __future__ import annotations

import base64
from functools import lru_cache

import numpy as np
import numpy.typing as npt

LENGTHS = {
    "1": (
        "kikjgjkikjgjgegigjkikigikikigigegigigegeaegegigigegigikikigikikjgigegigjkikjgikik"
    ),
    "2": (
        "igihfhihihfgfefgfhighhfhigihfgfefgfhfefecefefhfgfefhfhigihfhhgihfgfdfhfgigigfhigi"
    ),
    "3": (
        "adhdehiijdfiffiiijijmiikkjldfjfgjjjlegkfgjiikijmhiljklhjoikomnphjnijnlloklpjkollo"
    ),
    "4": (
        "dehedhihkeehedhhgjihkhhjkjkdehddhhhjddhddghgihhjggijijhhkhgjkjlhgjggijikkjljikkjk"
    ),
    "5": (
        "mlkkjkklmlkjihijklljihghijkkihedehikjhgdadghkkihedehikkjihghijklkjihijklmllkjjklm"
    ),
    "6": (
        "kjiiiiijkjihggghijihfffffhiigfdddfgiigfdddfgiigfdddfgiihfffffhijihgggghjkjiiiiijk"
    ),
    "7": (
        "acfghijkcdfghhiiffghhiijgghhiijjhhiijjjkihiijjkkjiijjkllkjjjkkll"
    ),
    "8": (
        "edefghijdcdefggheddefgghfeeffghhgfffgghihgfgghhjigghhhiijhhhiiij"
    ),
    "9": (
        "acfhijjkkllmmcdfghhijjjkllffghhijjjklllhghiijjkkkllmihiijjkkklllmjiijkkklkllmmkijkkkllll"
        "mmmkjjkkllmmmmmmkjjkkkllmmnmnkjkkllllmmnnnlkklllmmmnnnolklllmmmmnnoomlllmmmmnnnno"
    ),
    "10": (
        "feffghijjjkkleddefgghhijjkfdeeffghhiijjfeeefgghhiijjgffffgghhiijjhgfggghhhijjkigggghhiii"
        "jjkihhhhhiiijjkkihhhhhiijjjkkjiiiiiijjjkkljiiiijjjjkkklkjijjjjjkkkklkjjjjjjkkllll"
    ),
    "11": (
        "defghhijjjkklklljedefgghhiiijjjjkhfeefgghhhiiijjjjhgfffgghhhiiijjjjhhgggghhhhiiijjjjhhgg"
        "gghhhiiiijjjjhihhhhhhhiiijjjjjhihhhhhhiiijjjjjjhjihhiiiiijjjjjjkhjiiiiiiijjjjjjkkhkiiiii"
        "ijjjjjkjkkhkjiijijjjjjkkkkkhkjjjjjjjjjjkkkkkikjiijjjjjjkkkkkkikjjjjjjjjjkkkkkkiljjjjjjjk"
        "kkkkklliihhhhhhhhhhhhhhie"
    ),
    "0": (
        "rrrrsssssssssssssssrsrqqpqppppoonnnnnnmmlllklkjjjiihhhgffedcaddeffgghhiijjjkkkkllmmmnnpo"
        "porssssssssssssssssssssssssssssss"
    ),
}
CODES = {
    "1": (
        "/x8f+/ro/D+/s/r+PL9Oke3r2ft/zw/x+GH7fy9X+/lp9ve+/zZPLnrikpltt9OPya58fHw+f/vP/P34Pd/Dxf6/"
        "PV6OsOf03fv/bwf5/LN9f//f+gA="
    ),
    "2": (
        "+e/+9cfV9+j9eVvCA1e6jp/Ob452/H6a/r2VbLFT52vWRD6Qd1eHe5keZT53+H84/L0h5vfR+O6LLiU3bLq/fL/a"
        "bvb/7fsA"
    ),
    "3": (
        "T33nw9fm/Ktffpv6fb5/z932/+vZ8v8/4/j/iOP226/j9f2f6Y7f056ff8/p/b0fV/88vj/3+v8//O79//98P6//"
        "3/3/9f//4/h/+er7v/v/b/r/+fy/1//79P7//v/f/n/9AA=="
    ),
    "4": (
        "e3tiO/3+f+M37ajxeHD8Pd4/67uT8v7ff/1aeUpy+nR+jFzmGvj0/Pr5v23avp9nw/n17P99W/9/8/n//07f42aP"
        "r93y/p/f8f/vt+P9f/fr/wA="
    ),
    "5": (
        "///7/0/R+P7v8/8f/f/f4/R6PD2fd/L/r/T7/l0cOz4fV/P9fr6tRnu9/7fw8udq4+f6f3+7vxO+v0/s/t9fz7eX"
        "T8ft/v/t/D6fb4+r7P8f8//P/P9f1fn+X9f+//w="
    ),
    "6": (
        "/9/vx9f09Xw/z/v7eXq2cdHh5v3+fflPRNj1/f0b7oRqdfu9/K0gO/n+vPurcVs2+z892ElUufZ8v48nbq4aenj/"
        "X//5+3t/Hp+v9/8A"
    ),
    "7": (
        "Xfp5ev7f7zNePZ3e767acurx9Pz/Xnw6/D4/D7P68+30e/7/x/n/ft7/V8vz/j/P/Pu9n0/T9/8f+//f2/D8v2/1"
        "/3/z/8A="
    ),
    "8": (
        "csMN/j+v+MJKzV1+Hk1LtPL1vjOrLZ2fXGu3Hbw8vz36M9e7u+f8/HTn2+Ht9v7/vn6e/3/f8/8="
    ),
    "9": (
        "Xfn73nez8j5v5H7v+T/ZM15dXb4vR9P4Psfn/q7acejs8Pn+77f0Px/1P5Obh093x+l7nzPlfe/Y/q/t9/r7nm9X"
        "3vl/d+5+b/F/P/h9DweT1vi/R+3+l+D9n+v/H/p+J5fX+N8/7X5f7X8f9P+b/n/3+n7Hw/U+z+n+9/d/s/4v9X/H"
        "/t9L1Pa+P9f8X537f9j/d/4f9P/L8Pv/J+t+V+h/L/N/r/3/+f/p/6/wfO+r+N+j/D/g/0f8P/H/4/9v/5/R9/8n"
        "9f9z+5/f/2/9f/n/7//v/+/z/mfrfv/3v7X+X/l/9f+//5/+//8="
    ),
    "10": (
        "iQ7Nf0+f6Hr/b/D+3/pwFMFTBq7nU833vzuEZj1FvN2ed3PZ/GVamyV8OZu8zven892F+Oezk2N/peL3fu0atNax"
        "izuDi7XqfH+vk3rVzHlbXH5Xg9v6P2ePSy9DX2+N1ex5Xtfq/j4dTP1t7h6HW9H1fy/d/v6ebyOX0ev3/P+D7/zf"
        "4/6+vu9Ps9v0vM9z6v2/z/z/z/LzvJ5fset8Xy/o/p/X+//f+vs9/4fk+b8P0/v/4/+/8//A"
    ),
    "11": (
        "AzL2cxtPyHhe/+b+f/f7P+v/uOKKFG8KSr8jpdrz3gdF5v1q5c6WHMCOo7jM6zg9jy3feVOvFVmncSRpb7La7c9D"
        "yPS+rKTTZw6gxk3YYee1e85/j+p8+Tv3z+HFnqe5ymi3XD6bp+79Sf0EfGyExTW2Jn9fv+Z7/tPJ+eo21XSVVlhY"
        "uY0m44zpPE8b3forevyV7eY7L5rR7HjeY7f0/R9v7tp72pzec0Oq1uz4vsu4874fg+l+W3/Hu9RpthstvzfNd12v"
        "rfX+T7H6rr9HQb3acVxOS6rsO89f6n3Pt/V/hg/78jo+V53rOu8X2Pi+b8n5/wfp/vkP5cnvuBynL9b4fg+l9r7P"
        "3/1/0/1lf8d7znV9R2fc+h8fy/i+9+3+P+f+ZP/33O28fzPL9n2vp/h/d+/+v9v/P/87wrWhlpeVmaCirKmxs7vA"
        "x5A="
    ),
    "0": (
        "//o//m//n//l//6//8f/9v//b//d//v//4f//P//v/////9//3//8f/+///P/8n//r/+P/9//8P/1//d/+X/5//p"
        "/+P/2/+//z/6/+//n/7f+X/f/r/z/v/t/n/T/H8/v+v4+/18e3nrjVxWb578evf5+35/T9v4/r/T+39/9f+P+n/b"
        "/x/8f+n/4f/T/9v/r//F//Z//tf/2//7n/93/+9//Y//pf/0//6n/9X/+t//y//v//5//9H/+n//V//r//zf/4P/"
        "8P/+L//H//k//y//1//9n//T//mA"
    ),
}
SCALE_BOOK = 0
LONGEST = 19  # bits of a code; books of spectra need 16 at most


@lru_cache(maxsize=1)
def lookups() -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
    """(int32[12, 65536] by the 16 bits that a spectral code begins with, int32[524288] by the 19
    that one of a scale factor does): index << 5 | bits of the code."""
    spectra = np.zeros((12, 1 << 16), np.int32)
    scale = np.zeros(1 << LONGEST, np.int32)
    for number in range(12):
        lengths = [ord(letter) - 96 for letter in LENGTHS[str(number)]]
        packed = base64.b64decode(CODES[str(number)])
        bits, total = int.from_bytes(packed, "big"), len(packed) * 8
        table, width = (scale, LONGEST) if number == SCALE_BOOK else (spectra[number], 16)
        at = 0
        for index, length in enumerate(lengths):
            code = bits >> (total - at - length) & ((1 << length) - 1)
            at += length
            first = code << (width - length)
            table[first : first + (1 << (width - length))] = index << 5 | length
    return spectra, scale
