import { Search } from "lucide-react";
import type { FormEvent } from "react";
import { useNavigate } from "react-router";

// SearchBox looks for items by words and terms.
export function SearchBox({ query = "" }: { query?: string }) {
  const navigate = useNavigate();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    void navigate(`/search?q=${encodeURIComponent(String(new FormData(event.currentTarget).get("q")))}`);
  };
  return (
    <form role="search" className="flex items-center gap-2" onSubmit={submit}>
      <input
        key={query}
        name="q"
        aria-label="Search items"
        placeholder="Search items"
        defaultValue={query}
        className="input input-sm w-56"
      />
      <button type="submit" className="btn btn-outline btn-sm">
        <Search className="size-4" aria-hidden /> Search
      </button>
    </form>
  );
}
