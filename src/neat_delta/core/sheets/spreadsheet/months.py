"""Month names and their short forms in some sixty languages (Unicode CLDR), in lower case without a full stop."""

from __future__ import annotations

__all__ = ["MONTHS"]

NAMES = (
    (
        "de gen|de gener|ean|eanáir|ene|enero|gen|gener|gennaio|ian|ianuarie|ion|ionawr|jaan|"
        "jaanuar|jan|janar|janeiro|jannar|januar|januari|januarie|january|januwari|január|januára|"
        "janv|janvier|janvāris|janúar|led|leden|ledna|oca|ocak|saus|sausio|sausis|sij|siječanj|"
        "siječnja|sty|styczeń|stycznia|tammi|tammikuu|tammikuuta|urt|urtarrila|xan|xaneiro|yan|"
        "yanvar|ιαν|ιανουάριοσ|ιανουαρίου|сту|студзень|студзеня|січ|січень|січня|янв|январь|"
        "января|яну|януари|јан|јануар|јануари|қаң|қаңтар|հնվ|հունվար|հունվարի|ינואר|جنوری|يناير|"
        "ژانویه|ஜன|జన|มกราคม|იან|იანვარი|ጃን|ጃንዋሪ"
    ),
    (
        "chw|chwef|chwefror|de febr|de febrer|feabh|feabhra|feb|febbraio|febr|febreiro|febrer|"
        "febrero|februar|februari|februarie|february|februwari|február|februára|februāris|febrúar|"
        "fev|fevereiro|fevral|fra|frar|févr|février|helmi|helmikuu|helmikuuta|lut|lutego|luty|"
        "ots|otsaila|peb|pebrero|shk|shkurt|vas|vasario|vasaris|veebr|veebruar|velj|veljača|"
        "veljače|úno|únor|února|şub|şubat|φεβ|φεβρουάριοσ|φεβρουαρίου|ақп|ақпан|лют|лютага|"
        "лютий|лютого|люты|феб|фебруар|фев|февр|февраль|февраля|февруари|փետրվար|փետրվարի|փտվ|"
        "פברואר|فبراير|فروری|فوریه|თებ|თებერვალი|ፌብ|ፌብሩዋሪ"
    ),
    (
        "bře|březen|března|de març|kov|kovas|kovo|maalis|maaliskuu|maaliskuuta|maart|mac|machi|"
        "mar|marca|march|marec|maret|mars|marso|mart|martie|marts|martxoa|marzec|marzo|marzu|"
        "març|março|mas|mashi|maw|mawrth|mrt|mrz|márc|március|márta|mär|märts|märz|ožu|ožujak|"
        "ožujka|μάρ|μάρτιοσ|μαρ|μαρτίου|бер|березень|березня|мар|март|марта|нау|наурыз|сак|"
        "сакавік|сакавіка|մարտ|մարտի|մրտ|מרץ|مارس|مارچ|მარ|მარტი|ማርች"
    ),
    (
        "abr|abril|aib|aibreán|api|apirila|apr|aprel|april|aprile|aprili|aprilie|aprill|apríl|"
        "apríla|aprīlis|avr|avril|bal|balandis|balandžio|dub|duben|dubna|d’abr|d’abril|ebr|"
        "ebrill|eph|ephreli|huhti|huhtikuu|huhtikuuta|kwi|kwiecień|kwietnia|nis|nisan|pri|prill|"
        "tra|travanj|travnja|ápr|április|απρ|απρίλιοσ|απριλίου|апр|апрель|апреля|април|квіт|"
        "квітень|квітня|кра|красавік|красавіка|сәу|сәуір|ապր|ապրիլ|ապրիլի|אפריל|آوریل|أبريل|"
        "اپریل|เมษายน|აპრ|აპრილი|ኤፕሪ|ኤፕሪል"
    ),
    (
        "beal|bealtaine|de maig|geg|gegužė|gegužės|kvě|květen|května|mag|maggio|mai|maiatza|"
        "maig|maijs|maio|maj|maja|may|mayo|mayıs|maí|mei|mej|mejju|mey|meyi|máj|mája|május|"
        "svi|svibanj|svibnja|touko|toukokuu|toukokuuta|μάι|μάιοσ|μαΐ|μαΐου|май|мам|мамыр|мая|"
        "мај|трав|травень|травня|մայիս|մայիսի|մյս|מאי|مئی|مايو|مه|मई|พฤษภาคม|მაი|მაისი|ሜይ"
    ),
    (
        "birž|birželio|birželis|cze|czerwca|czerwiec|de juny|eka|ekaina|giu|giugno|haz|haziran|"
        "hun|hunyo|iun|iunie|iyn|iyun|juin|jun|june|junho|juni|junie|junij|junio|juny|juuni|"
        "jún|júna|június|júní|jūn|jūnijs|kesä|kesäkuu|kesäkuuta|lip|lipanj|lipnja|meh|mehefin|"
        "meith|meitheamh|qer|qershor|xuño|červen|června|čvn|ġun|ġunju|ιουν|ιουνίου|ιούν|ιούνιοσ|"
        "июн|июнь|июня|мау|маусым|черв|червень|червня|чэр|чэрвень|чэрвеня|юни|јун|јуни|հնս|"
        "հունիս|հունիսի|יוני|جون|يونيو|ژوئن|ივნ|ივნისი|ጁን"
    ),
    (
        "de jul|de juliol|gor|gorff|gorffennaf|heinä|heinäkuu|heinäkuuta|hul|hulyo|iul|iulie|iyl|"
        "iyul|iúil|juil|juillet|jul|julai|julayi|julho|juli|julie|julij|julio|juliol|july|"
        "juuli|júl|júla|július|júlí|jūl|jūlijs|korr|korrik|liep|liepa|liepos|lip|lipca|lipiec|"
        "lug|luglio|lul|lulju|srp|srpanj|srpnja|tem|temmuz|uzt|uztaila|xul|xullo|července|"
        "červenec|čvc|ιουλ|ιουλίου|ιούλ|ιούλιοσ|июл|июль|июля|лип|липень|липня|ліп|ліпень|"
        "ліпеня|шіл|шілде|юли|јул|јули|հլս|հուլիս|հուլիսի|יולי|جولائی|يوليو|ژوئیه|กรกฎาคม|ივლ|"
        "ივლისი|ጁላይ"
    ),
    (
        "abu|abuztua|ag|aga|agasti|ago|agost|agosti|agosto|agu|agustus|août|aug|august|augusta|"
        "augusti|augusts|augustus|augusztus|avg|avgust|avq|avqust|awst|aww|awwissu|ağu|ağustos|"
        "d’ag|d’agost|elo|elokuu|elokuuta|gush|gusht|kol|kolovoz|kolovoza|lún|lúnasa|ogo|ogos|"
        "rugp|rugpjūtis|rugpjūčio|sie|sierpień|sierpnia|srp|srpen|srpna|ágú|ágúst|αυγ|αυγούστου|"
        "αύγ|αύγουστοσ|авг|август|августа|жні|жнівень|жніўня|серп|серпень|серпня|там|тамыз|"
        "օգոստոս|օգոստոսի|օգս|אוגוסט|أغسطس|اوت|اگست|আগ|ஆக|ఆగ|აგვ|აგვისტო|ኦገስ|ኦገስት"
    ),
    (
        "de set|de setembre|eyl|eylül|ira|iraila|medi|meán fómhair|mfómh|rugs|rugsėjis|rugsėjo|"
        "ruj|rujan|rujna|sen|sentabr|sentyabr|sep|sept|septemba|septembar|september|septembra|"
        "septembre|septembrie|septembris|septhemba|septiembre|set|setembre|setembro|settembre|"
        "settembru|setyembre|sht|shtator|syys|syyskuu|syyskuuta|szept|szeptember|wrz|wrzesień|"
        "września|zář|září|σεπ|σεπτέμβριοσ|σεπτεμβρίου|вер|верасень|верасня|вересень|вересня|сент|"
        "сентябрь|сентября|сеп|септембар|септември|қыр|қыркүйек|սեպ|սեպտեմբեր|սեպտեմբերի|ספטמבר|"
        "سبتمبر|ستمبر|سپتامبر|სექ|სექტემბერი|ሴፕቴ|ሴፕቴምበር"
    ),
    (
        "deireadh fómhair|dfómh|d’oct|d’octubre|eki|ekim|hyd|hydref|lis|listopad|listopada|loka|"
        "lokakuu|lokakuuta|oct|october|octobre|octombrie|octubre|okt|oktabr|okthoba|oktoba|"
        "oktobar|oktober|oktobris|oktoober|oktubre|oktyabr|október|októbra|ott|ottobre|ottubru|"
        "out|outubro|paź|październik|października|spal|spalio|spalis|tet|tetor|urr|urria|říj|"
        "říjen|října|οκτ|οκτωβρίου|οκτώβριοσ|жовт|жовтень|жовтня|кас|кастрычнік|кастрычніка|окт|"
        "октобар|октомври|октябрь|октября|қаз|қазан|հոկ|հոկտեմբեր|հոկտեմբերի|אוקטובר|أكتوبر|اکتبر|"
        "اکتوبر|ოქტ|ოქტომბერი|ኦክቶ|ኦክቶበር"
    ),
    (
        "aza|azaroa|de nov|de novembre|kas|kasım|lapkr|lapkritis|lapkričio|lis|listopad|listopada|"
        "listopadu|marras|marraskuu|marraskuuta|nob|nobyembre|noiembrie|nov|novemba|novembar|"
        "november|novembra|novembre|novembris|novembro|novembru|noviembre|noy|noyabr|nën|nëntor|"
        "nóv|nóvember|samh|samhain|stu|studeni|studenoga|tach|tachwedd|νοέ|νοέμβριοσ|νοε|"
        "νοεμβρίου|лист|листопад|листопада|ліс|лістапад|лістапада|нов|новембар|ное|ноември|нояб|"
        "ноябрь|ноября|қар|қараша|նոյ|նոյեմբեր|նոյեմբերի|נובמבר|نوامبر|نوفمبر|نومبر|நவ|ნოე|"
        "ნოემბერი|ኖቬም|ኖቬምበር"
    ),
    (
        "abe|abendua|ara|aralık|de des|de desembre|dec|decembar|december|decembra|decembrie|"
        "decembris|decembro|dek|dekabr|des|desemba|desember|desembre|dets|detsember|dez|dezember|"
        "dezembro|dhj|dhjetor|dic|dicembre|diciembre|dis|disemba|disember|disyembre|diċ|diċembru|"
        "déc|décembre|gru|grudnia|grudzień|gruod|gruodis|gruodžio|joulu|joulukuu|joulukuuta|noll|"
        "nollaig|pro|prosinac|prosinca|prosince|prosinec|rhag|rhagfyr|δεκ|δεκέμβριοσ|δεκεμβρίου|"
        "груд|грудень|грудня|дек|декабрь|декабря|декември|дец|децембар|жел|желтоқсан|сне|снежань|"
        "снежня|դեկ|դեկտեմբեր|դեկտեմբերի|דצמבר|دسامبر|دسمبر|ديسمبر|დეკ|დეკემბერი|ዲሴም|ዲሴምበር"
    ),
)
"""By month, with | between them."""

MONTHS: dict[str, frozenset[int]] = {}
"""The months that a name can mean; lis is October in one language and November in another."""
for _number, _names in enumerate(NAMES, 1):
    for _name in _names.split("|"):
        MONTHS[_name] = MONTHS.get(_name, frozenset()) | {_number}
