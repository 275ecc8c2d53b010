"""What is in this file, and what should be mended before anything is fitted?"""

import markbase as mb

study = mb.demo.choirs()
overview = study.overview()

print("Columns that deserve a second look:")
for row in overview[overview["remarks"] != ""].itertuples():
    print(f"  {row.column}: {row.remarks}")

print("\nWho sings what:")
print(study.levels("voice")[["level", "count", "share_valid", "base", "remarks"]].to_string(index=False))

print("\nHow much they practise:")
print(study.values("practice_hours").to_string(index=False))
