// The pages speak before anything is shown.
import { initialLanguage } from "../src/shared/words";

await initialLanguage();
