import { Eye, EyeOff } from "lucide-react";
import { useState } from "react";
import { LiveVideo } from "../../components/LiveVideo";
import { Section } from "./Section";

/** What is on air as a picture: on the page of one channel it is there at once. */
export function LivePicture({ channel }: { channel: string }) {
  const [isOpen, setOpen] = useState(true);
  const action = (
    <button type="button" className="btn btn-sm" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
      {isOpen ? <EyeOff className="size-4" /> : <Eye className="size-4" />} {isOpen ? "Close the picture" : "See the picture"}
    </button>
  );
  return (
    <Section title="Picture" action={action}>
      {isOpen ? (
        <LiveVideo channel={channel} />
      ) : (
        <p className="px-4 py-3 text-sm text-base-content/70 sm:px-5">The picture and the sound that come in, less than a second late.</p>
      )}
    </Section>
  );
}
