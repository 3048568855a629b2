import { Copy } from "./Copy";
import { Scroll } from "./Scroll";

// Code is text to be copied, such as commands; nothing in it is secret.
export function Code({ text, what }: { text: string; what: string }) {
  return (
    <div className="bg-base-300 rounded-field flex items-start justify-between gap-2 p-3">
      <div className="min-w-0 grow">
        <Scroll label={what}>
          <pre className="name text-sm">{text}</pre>
        </Scroll>
      </div>
      <Copy text={text} what={what} />
    </div>
  );
}
