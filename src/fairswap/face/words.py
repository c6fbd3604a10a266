"""What the words in the names of face shapes mean, in several languages; our own lists, by meaning.

A name is cut into words (as names of bones are), each word into a notion; rules say which notions make which unit.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from fairswap.bones.words import meaning_of
from fairswap.face.units import ACTIONS, UNITS

# Notion to words: English, German, French, Spanish, Italian, Japanese in Latin letters; abbreviations.
_NOTIONS = {
    "brow": "brow brows eyebrow eyebrows braue brauen augenbraue sourcil sourcils ceja cejas sopracciglio mayu brw eyebr",
    "lid": "lid lids eyelid eyelids lidschlag paupiere paupieres parpado parpados palpebra mabuta",
    "eye": "eye eyes auge augen oeil yeux ojo ojos occhio occhi me",
    "cheek": "cheek cheeks wange wangen backe joue joues mejilla mejillas guancia hoho chk",
    "nose": "nose nase nez nariz naso hana nos",
    "nostril": "nostril nostrils nasenfluegel narine narines narina narices narici bikou nstrl",
    "mouth": "mouth mund bouche boca bocca kuchi mth mou",
    "lip": "lip lips lippe lippen levre levres labio labios labbro labbra kuchibiru",
    "jaw": "jaw kiefer unterkiefer machoire mandibula mascella ago",
    "chin": "chin kinn menton barbilla menton mento",
    "tongue": "tongue zunge langue lengua lingua shita tng",
    "corner": "corner corners winkel mundwinkel coin coins comisura comisuras angolo kado crn",
    "inner": "inner inside innen innere interieur interne interior interno uchi inr",
    "outer": "outer outside aussen aeussere exterieur externe exterior esterno soto otr",
    "upper": "upper top ober oben obere oberlippe superieur superieure superior superiore ue upr",
    "lower": "lower bottom unter unten untere unterlippe inferieur inferieure inferior inferiore shita lwr",
    "up": "up lift lifted raise raiser raised raises hoch heben hoeher haut lever leve arriba subir sube su alza age ageru",
    "down": "down drop lowerer depress depressor runter senken tief bas baisser baisse abajo bajar baja giu abbassa sage sageru dwn",
    "in": "in inward inwards rein einwaerts dedans adentro dentro",
    "out": "out outward outwards raus show dehors fuera fuori dashi poke",
    "open": "open opened offen oeffnen ouvert ouvre ouvrir abierto abrir abre aperto apri ake akeru opn part apart",
    "close": "close closed shut zu schliessen geschlossen ferme fermer cerrado cerrar cierra chiuso chiudi toji tojiru cls",
    "blink": "blink wink blinzeln zwinkern clignement cligne parpadeo guino guinar batter mabataki blnk",
    "wide": "wide stare weit starren ecarquille abrete spalancato hirogeru",
    "narrow": "narrow squint tight tighten tightener schmal eng kneifen plisse plisser entrecerrar stringi hosomeru sqnt",
    "smile": "smile grin laecheln grinsen laecheln sourire sonrisa sorriso emi egao sml puller",
    "frown": "frown frowny stirnrunzeln runzeln froncer fronce ceno fruncir aggrotta shikame frwn",
    "sadmouth": "sulk traurigmund moue",
    "pucker": "pucker kiss kuss kussmund spitz baiser beso bacio kisu pckr",
    "funnel": "funnel trichter entonnoir embudo imbuto fnl",
    "press": "press pressed pressen pression presser apretar premi osu prs",
    "roll": "roll rolled suck rollen einsaugen rouler enrollar risucchia maku",
    "puff": "puff puffed inflate aufblasen aufgeblasen gonfler gonfle inflar hinchar gonfia fukurami pff",
    "hollow": "hollow hohl creux hueco incavo suction",
    "stretch": "stretch stretcher strecken dehnen etirer etire estirar stira hiku strch",
    "dimple": "dimple dimpler gruebchen fossette hoyuelo fossetta ekubo dmp",
    "wrinkle": "wrinkle wrinkler sneer ruempfen nasenruempfen plissement arruga arrugar arriccia shiwa wrkl",
    "flare": "flare dilator dilate blaehen dilater dilatar dilata hirogari",
    "squeeze": "compress compressor squeeze zusammen pincer comprimir comprimi",
    "forward": "forward thrust vor vorne avant adelante avanti mae fwd",
    "aside": "aside side sideways sideway seite seitlich cote lado lato yoko",
    "fold": "fold nasolabial deepener falte pli pliegue piega",
    "look": "look gaze blick schauen regard regarder mirar mirada sguardo miru lk",
    "say": "say viseme vis phoneme phon sound laut mouthshape lipsync sprich dire decir di",
    "joy": "joy happy happiness freude froh gluecklich joie heureux alegria feliz gioia felice yorokobi ureshii",
    "sadness": "sad sadness traurig trauer triste tristesse tristeza tristezza kanashimi kanashii",
    "anger": "anger angry cross wut wuetend zornig colere fache enojo enfadado rabbia arrabbiato ikari okoru",
    "fear": "fear afraid scared angst aengstlich peur effraye miedo asustado paura osore kowai",
    "disgust": "disgust disgusted yuck ekel degout asco disgusto kenno",
    "surprise": "surprise surprised wow ueberraschung ueberrascht surpris sorpresa sorprendido sorpreso odoroki",
    "fix": "fix corrective correction correct combo korrektur correctif correctivo korr crct",
}  # fmt: skip
# Notions to units; of sided actions without their side. The more of the name a rule explains, the better it fits.
_RULES = """
brow inner up: inner_brow_raiser | brow in up: inner_brow_raiser | brow outer up: outer_brow_raiser
brow out up: outer_brow_raiser | brow down: brow_lowerer | brow frown: brow_lowerer | frown: brow_lowerer
eye wide: upper_lid_raiser | lid upper up: upper_lid_raiser | lid wide: upper_lid_raiser
eye open: upper_lid_raiser | lid up: upper_lid_raiser | eye narrow: lid_tightener | lid narrow: lid_tightener
narrow: lid_tightener | lid lower up: lid_tightener | eye close: eye_closure | lid close: eye_closure
blink: eye_closure | eye blink: eye_closure | close eye lid: eye_closure | lid blink: eye_closure
lid down: eye_closure | lid upper down: eye_closure | look up: gaze_up | eye up: gaze_up | eye look up: gaze_up
look down: gaze_down | eye down: gaze_down | eye look down: gaze_down | look in: gaze_in | eye look in: gaze_in
eye in: gaze_in | look out: gaze_out | eye look out: gaze_out | eye out: gaze_out | nose wrinkle: nose_wrinkler
wrinkle: nose_wrinkler | nose up: nose_wrinkler | nostril flare: nostril_dilator | nose flare: nostril_dilator
nostril wide: nostril_dilator | nostril out: nostril_dilator | nostril squeeze: nostril_compressor
nostril narrow: nostril_compressor | nostril in: nostril_compressor | cheek up: cheek_raiser
cheek narrow: cheek_raiser | cheek puff: cheek_puff | puff: cheek_puff | cheek hollow: cheek_suck
cheek in: cheek_suck | cheek roll: cheek_suck | cheek hollow in: cheek_suck | lip upper up: upper_lip_raiser
mouth upper up: upper_lip_raiser | lip upper: upper_lip_raiser | fold: nasolabial_deepener
nose fold: nasolabial_deepener | smile: lip_corner_puller | mouth smile: lip_corner_puller
lip corner up: lip_corner_puller | mouth corner up: lip_corner_puller | corner up: lip_corner_puller
lip corner smile: lip_corner_puller | lip smile: lip_corner_puller | dimple: dimpler | mouth dimple: dimpler
lip corner down: lip_corner_depressor | mouth corner down: lip_corner_depressor | mouth frown: lip_corner_depressor
mouth sadness: lip_corner_depressor | corner down: lip_corner_depressor | mouth sadmouth: lip_corner_depressor
lip frown: lip_corner_depressor | lip lower down: lower_lip_depressor | mouth lower down: lower_lip_depressor
lip stretch: lip_stretcher | mouth stretch: lip_stretcher | stretch: lip_stretcher | mouth wide: lip_stretcher
lip wide: lip_stretcher | chin up: chin_raiser | mouth chin up: chin_raiser | pucker: lip_pucker
mouth pucker: lip_pucker | lip pucker: lip_pucker | funnel: lip_funneler | lip funnel: lip_funneler
mouth funnel: lip_funneler | lip narrow: lip_tightener | mouth narrow: lip_tightener | lip press: lip_pressor
mouth press: lip_pressor | press: lip_pressor | lip open: lips_part | lip open mouth: lips_part | lip roll: lip_suck
mouth roll: lip_suck | lip roll in: lip_suck | mouth roll in: lip_suck | lip in: lip_suck | jaw open: jaw_drop
jaw down: jaw_drop | jaw: jaw_drop | mouth open: jaw_drop | mouth down: jaw_drop | jaw forward: jaw_thrust
jaw out: jaw_thrust | jaw aside: jaw_aside | jaw left: jaw_aside | mouth left: jaw_aside | tongue out: tongue_show
tongue: tongue_show | tongue forward: tongue_show | joy: joy | smile joy: joy | sadness: sadness | anger: anger
fear: fear | disgust: disgust | surprise: surprise
"""
_SPOKEN = {
    "viseme_pbm": "mm m p b pbm mbp bmp pp pb", "viseme_fv": "f v fv ff", "viseme_th": "th dh tt", "viseme_td": "t d td dt",
    "viseme_kg": "k g kg kk ng", "viseme_ch": "ch sh j zh chj", "viseme_sz": "s z sz ss", "viseme_nl": "n l nl nn",
    "viseme_r": "r rr", "viseme_a": "a ah aa aah", "viseme_e": "e eh", "viseme_i": "i ee ih iy", "viseme_o": "o oh",
    "viseme_u": "u oo uu uh w",
}  # fmt: skip
_MEANS: dict[str, frozenset[str]] = {}
for _notion, _words in _NOTIONS.items():
    for _word in _words.split():
        _MEANS[_word] = _MEANS.get(_word, frozenset()) | {_notion}
_LONG = sorted((word for word in _MEANS if len(word) >= 4), key=len, reverse=True)
_SOUND = {word: name for name, words in _SPOKEN.items() for word in words.split()}
_ALL_RULES = [
    (frozenset(left.split()), right.strip())
    for line in _RULES.strip().splitlines()
    for left, _, right in (row.partition(":") for row in line.split("|"))
]
_SIDED = {action.name for action in ACTIONS if action.sided}


@dataclass(frozen=True)
class ShapeName:
    """What a name says: how well each unit, pair, viseme or expression fits (0 to 1), its side, whether it mends
    others."""

    scores: dict[str, float]
    side: str
    notions: frozenset[str]
    corrective: bool


@lru_cache(maxsize=20_000)
def shape_name(name: str) -> ShapeName:
    """Cut a name into words, the words into notions, and see which units they make.

    >>> max(shape_name("Augenbraue_innen_hoch_L").scores.items(), key=lambda row: row[1])[0]
    'inner_brow_raiser_left'
    """
    meaning = meaning_of(name)
    notions: set[str] = set()
    sounds: list[str] = []
    left_over = 0
    words = [word for word in meaning.words if not word.isdigit()]
    for word in words:
        found = _notions_in(word)
        notions |= found
        if word in _SOUND:
            sounds.append(_SOUND[word])
        elif not found:
            left_over += 1
    side = meaning.side
    scores: dict[str, float] = {}

    def add(target: str, score: float) -> None:
        scores[target] = max(scores.get(target, 0.0), score)

    said = notions - {"say", "fix"}
    for needed, target in _ALL_RULES:
        if needed <= said | ({"left"} if side else set()):
            score = len(needed) / (len(said | needed) + 0.3 * left_over)
            if target == "jaw_aside":
                for one in ("left", "right"):
                    add(f"jaw_{one}", score if side in (one, "") else 0.0)
            elif target in _SIDED:
                for end in [side] if side else ["left", "right", ""]:
                    add(f"{target}_{end}".rstrip("_"), score if end == side else 0.4 * score)
            else:
                add(target, score * (0.6 if side and target in UNITS else 1.0))
    # A lone letter is a sound only where the name says that it is spoken, or is nothing else.
    alone = len(words) <= 1 and bool(sounds) and not any(letter.isdigit() for letter in name)
    if sounds and (said <= {"mouth", "lip", "open"} and ("say" in notions or said or alone)):
        for sound in sounds:
            add(sound, 0.95 if "say" in notions or alone else 0.8)
    return ShapeName(scores, side, frozenset(notions), "fix" in notions)


def _notions_in(word: str) -> set[str]:
    if word in _MEANS:
        return set(_MEANS[word])
    found: set[str] = set()
    rest = word
    for known in _LONG:
        if known in rest:
            found |= _MEANS[known]
            rest = rest.replace(known, " ")
    return found
